import { useState } from "react";

/** A table of names, typed, pasted or from a file. */
export function TableIn({
  listed,
  onRead,
  onClose,
}: {
  /** Whether the names go into a list, where each has a direction. */
  listed?: boolean;
  onRead: (how: { how: "table"; table?: string; file?: string }) => Promise<void>;
  onClose: () => void;
}) {
  const [table, setTable] = useState("");
  const read = async (file: File) => {
    const octets = new Uint8Array(await file.arrayBuffer());
    let text = "";
    for (const octet of octets) text += String.fromCharCode(octet);
    await onRead({ how: "table", file: btoa(text) });
  };
  return (
    <section className="card mb-3 p-3" aria-label="By a table">
      <p className="small soft mb-2">
        A row for each pair: the name on this shore, the name on the far shore, and what happens on the way (÷ 10, °C →
        °F, upside down, = a formula; nothing for as it is). Put the name of the device before that of a point where
        several have it: DO probe 11.Oxygen. {listed && "A fourth column says which way: there, here or both. "}A list
        that was handed out can be brought back.
      </p>
      <textarea
        className="input mono h-[120px]"
        aria-label="Table"
        placeholder={"DO probe 11.Oxygen\tOxygen-11\t\nDO probe 11.WaterTemp\tTemp-11\t°C → °F"}
        value={table}
        spellCheck={false}
        onChange={(e) => setTable(e.target.value)}
      />
      <div className="mt-2 flex items-center justify-end gap-2">
        <label className="button mr-auto cursor-pointer">
          From a file…
          <input
            type="file"
            className="sr-only"
            accept=".csv,.tsv,.txt,.xlsx"
            onChange={(e) => {
              const file = e.target.files?.[0];
              if (file) void read(file);
            }}
          />
        </label>
        <button type="button" className="button" onClick={onClose}>
          Leave it
        </button>
        <button
          type="button"
          className="button main"
          disabled={!table.trim()}
          onClick={() => void onRead({ how: "table", table })}
        >
          Look at the pairs
        </button>
      </div>
    </section>
  );
}
