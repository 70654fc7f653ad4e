import type { Setting, Settings } from "../api/types.gen";
import { Field } from "../shared/ui";
import { KeptField } from "./KeptField";
import { optionsOf, readValue, shownValue } from "./settings";

/** One setting of an end of a link, in the kind of field that it takes. */
export function SettingField({
  setting,
  value,
  open,
  onBegin,
  onCommit,
}: {
  setting: Setting;
  value: Settings[string] | undefined;
  /** Set where a question mark may stand for what nobody has looked up. */
  open?: { unknown: boolean; onUnknown: () => Promise<unknown> };
  onBegin?: () => void;
  onCommit: (value: Settings[string]) => Promise<unknown>;
}) {
  if (setting.kind === "secret" || setting.kind === "file")
    return (
      <KeptField
        setting={setting}
        value={String(value ?? setting.default ?? "")}
        onBegin={onBegin}
        onCommit={(name) => onCommit(name)}
      />
    );
  const options = optionsOf(setting);
  const shown = open?.unknown ? "?" : shownValue(value ?? setting.default);
  return (
    <Field
      label={setting.title}
      unit={setting.unit}
      mono={!options}
      help={setting.help}
      placeholder={setting.like}
      value={shown}
      options={options && open ? [...options, { value: "?", title: "not known" }] : options}
      onBegin={onBegin}
      onCommit={(text) => (open && text.trim() === "?" ? open.onUnknown() : onCommit(readValue(setting, text)))}
    />
  );
}
