import { Dialog } from "./ui";

const everywhere: [string, string][] = [
  ["Ctrl K", "find anything, do anything"],
  ["Ctrl Z, Ctrl Shift Z", "take back, do again"],
  ["Esc", "one step back"],
  ["?", "this list"],
];
const perScreen: Record<string, [string, string][]> = {
  points: [
    ["Arrows, Tab, Home, End", "move in the grid; with Shift, select"],
    ["Enter, F2 or typing", "edit the cell; Enter or Tab keeps it, Esc gives it up"],
    ["Ctrl C, Ctrl V", "copy and paste, also with a spreadsheet"],
    ["Ctrl D", "fill the selection down from its first row"],
    ["Ctrl Shift D", "fill down counting: names and addresses go on"],
    ["Ctrl Enter", "while editing: put it into every selected cell"],
    ["Ctrl and wheel, drag", "zoom and move the ribbon"],
    ["Delete", "clear the selected cells"],
    ["Ctrl Delete", "remove the selected points"],
    ["Ctrl A", "select everything"],
  ],
  lines: [
    ["Tab, Enter", "go from device to device, open one"],
    ["Ctrl K", "also adds lines and devices, tries one link or every one"],
  ],
  checkout: [
    ["Enter", "it is right, and on to the next that is left; with a value typed, if the two agree"],
    ["W", "it is wrong; Alt W where letters are typed"],
    ["N", "it cannot be tested"],
    ["R", "a remark"],
    ["M", "make it move, and watch"],
    ["Up, Down", "another point"],
  ],
  traffic: [["Enter", "open an exchange or a finding"]],
  timetable: [
    ["Ctrl and wheel, drag", "zoom and move the track"],
    ["Tab to a name, Space", "take its device for silent, on paper"],
    ["Ctrl K", "also goes to the timetable of a line, and starts its run"],
  ],
};

/** Lists the keys of the screen in view. */
export function KeysDialog({ open, onClose, path }: { open: boolean; onClose: () => void; path: string }) {
  const own = perScreen[path.split("/")[1] ?? ""] ?? [];
  return (
    <Dialog open={open} onClose={onClose} title="Keys">
      <table className="rows">
        <tbody>
          {[...own, ...everywhere].map(([key, what]) => (
            <tr key={key}>
              <td className="mono whitespace-nowrap">{key}</td>
              <td>{what}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Dialog>
  );
}
