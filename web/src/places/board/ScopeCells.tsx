import type { Schemas } from "../../api/client";
import { nodeName } from "../../parts/wording";
import type { Measures } from "./layout";

interface Props {
  scope: Schemas["ObjectScope"] | undefined;
  board: Schemas["Board"];
  m: Measures;
}

/** Frames around the cells that a rule object has a say in; whole rows and columns of a group. */
export function ScopeCells({ scope, board, m }: Props) {
  if (!scope) return null;
  const at = new Map(board.nodes.map((n, i) => [n.id, i]));
  // What stands in a segment that is closed is within the segment's cell.
  const place = (id: string) => at.get(id) ?? at.get(id.split("/")[0] ?? "");
  const frames = new Map<string, { row: number; col: number; rows: number; cols: number; words: string }>();
  for (const c of scope.cells) {
    const row = c.row === "*" ? 0 : place(c.row);
    const col = c.col === "*" ? 0 : place(c.col);
    if (row === undefined || col === undefined) continue;
    const rows = c.row === "*" ? board.nodes.length : 1;
    const cols = c.col === "*" ? board.nodes.length : 1;
    const words = `${c.row === "*" ? "everything" : nodeName(c.row)} to ${c.col === "*" ? "everything" : nodeName(c.col)}`;
    frames.set(`${row} ${col} ${rows} ${cols}`, { row, col, rows, cols, words });
  }
  return [...frames.values()].map((f) => (
    <div
      key={f.words}
      data-scope={f.words}
      className="pointer-events-none absolute rounded-[3px] border-2 border-ink"
      style={{
        top: m.head + f.row * m.row,
        left: m.side + f.col * m.column,
        width: f.cols * m.column - 1,
        height: f.rows * m.row - 1,
      }}
    >
      <span className="sr-only">In scope: {f.words}</span>
    </div>
  ));
}
