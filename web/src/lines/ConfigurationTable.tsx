import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post, problemOf } from "../api/client";
import type { Configuration, LinkView, NotedView, Parameter, Problem } from "../api/types.gen";
import { Mark } from "../shared/Mark";
import { attempt, say } from "../shared/toast";
import { ProblemNotice } from "../shared/ui";
import { useSurvey } from "./useSurvey";

/** With what a connection is opened, point by point, beside what the device holds. */
export function ConfigurationTable({ link, configuration }: { link: LinkView; configuration: Configuration }) {
  const client = useQueryClient();
  const survey = useSurvey(link);
  const [problem, setProblem] = useState<Problem>();
  const held = survey.told?.held;
  const holds = new Map(survey.told?.configuration?.parameters.map((p) => [p.point, p.device ?? ""]));
  const told = held !== undefined;
  const put = async (order: { point?: string; text?: string; held?: string }) => {
    setProblem(undefined);
    try {
      const noted = await post<NotedView>(`/api/links/${link.id}/configuration`, order);
      await client.invalidateQueries({ queryKey: ["site"] });
      say(`${noted.said} Ctrl Z takes it back.`);
      return true;
    } catch (error) {
      setProblem(problemOf(error));
      return false;
    }
  };
  return (
    <div className="mt-2 w-full" data-testid="configuration">
      {configuration.parameters.length > 0 && (
        <table className="rows">
          <thead>
            <tr>
              <th>Point</th>
              <th>Place</th>
              <th>Sent</th>
              <th>Makes sense</th>
              {told && <th>Device holds</th>}
            </tr>
          </thead>
          <tbody>
            {configuration.parameters.map((p) => (
              <Row
                key={p.point + p.shown}
                parameter={p}
                held={told ? (holds.get(p.point) ?? "") : undefined}
                put={(text) => put({ point: p.point, text })}
              />
            ))}
          </tbody>
        </table>
      )}
      {problem && <ProblemNotice problem={problem} />}
      {configuration.problem && (
        <p className="small mt-1" style={{ color: "var(--fault)" }}>
          {configuration.problem}
        </p>
      )}
      <div className="mt-2 flex flex-wrap items-center gap-x-3 gap-y-1">
        <span className="mono soft small min-w-0 flex-1 break-words">
          {configuration.hex || "nothing is sent"}
          {configuration.free > 0 &&
            ` · ${configuration.free} ${configuration.free > 1 ? "octets are" : "octet is"} no point's`}
        </span>
        {told && held !== configuration.hex && held !== "" && (
          <button type="button" className="button" onClick={() => void put({ held })}>
            Send what the device holds
          </button>
        )}
        <AskButton link={link} />
      </div>
      {survey.told && !told && (
        <p className="small soft mt-1">The device does not tell which configuration it holds.</p>
      )}
      {told && held === configuration.hex && <p className="small soft mt-1">The device holds just these octets.</p>}
    </div>
  );
}

/** Asks the device of a link what it is set to. */
export function AskButton({ link }: { link: LinkView }) {
  const survey = useSurvey(link);
  return (
    <button type="button" className="button" disabled={survey.busy} onClick={() => void attempt(() => survey.ask())}>
      {survey.busy ? "Asking…" : "Ask the device"}
    </button>
  );
}

function Row({
  parameter: p,
  held,
  put,
}: {
  parameter: Parameter;
  held?: string;
  put: (text: string) => Promise<boolean>;
}) {
  const sent = plain(p.shown);
  const [text, setText] = useState(sent);
  const commit = () => {
    if (text.trim() !== "" && text !== sent) void put(text);
  };
  const options = p.names?.map((n) => n.name) ?? (p.shown === "on" || p.shown === "off" ? ["off", "on"] : undefined);
  const label = `${p.name} is sent as`;
  return (
    <tr data-parameter={p.name}>
      <td title={p.remark}>{p.name}</td>
      <td className="mono soft whitespace-nowrap">{p.place}</td>
      <td className="whitespace-nowrap">
        {options ? (
          <select
            className="input !w-[140px]"
            aria-label={label}
            value={options.includes(text) ? text : ""}
            onChange={(e) => {
              setText(e.target.value);
              void put(e.target.value);
            }}
          >
            {!options.includes(text) && <option value="">{p.shown || "not sent"}</option>}
            {options.map((o) => (
              <option key={o}>{o}</option>
            ))}
          </select>
        ) : (
          <input
            className="input mono !w-[110px]"
            aria-label={label}
            placeholder={p.problem ? "not sent" : ""}
            value={text}
            onChange={(e) => setText(e.target.value)}
            onBlur={commit}
            onKeyDown={(e) => {
              if (e.key === "Enter") commit();
              if (e.key === "Escape") setText(sent);
            }}
          />
        )}{" "}
        <span className="soft">{p.unit}</span>
        {p.problem && <div className="small soft whitespace-normal">{p.problem}</div>}
      </td>
      <td className="small soft" style={p.beyond ? { color: "var(--fault)" } : undefined}>
        {p.beyond ? `beyond ${p.limits}` : p.limits}
      </td>
      {held !== undefined && (
        <td className="mono">
          <span className="inline-flex items-center gap-2 whitespace-nowrap">
            <Mark kind={held === p.shown ? "good" : "fault"} size={13} /> {held}
          </span>
        </td>
      )}
    </tr>
  );
}

/** A value as a person types it: without the name that is shown behind a number. */
function plain(shown: string) {
  const at = shown.indexOf(" · ");
  return at < 0 ? shown : shown.slice(at + 3);
}
