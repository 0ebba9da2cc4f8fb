import { useQuery } from "@tanstack/react-query";
import type { Schemas } from "../../api/client";
import { cellsQuery, pieceSize } from "../../api/queries";
import { marksName } from "../../parts/marks/geometry";
import { nodeName } from "../../parts/wording";
import type { Measures } from "./layout";

interface OverProps {
  board: Schemas["Board"];
  open: string[];
  row: number;
  col: number;
  m: Measures;
  id?: string;
  selected?: boolean;
}

/** The cell that the pointer or the keyboard is at: it lies over the picture, has a name, and can be read aloud. */
export function Over({ board, open, row, col, m, id, selected }: OverProps) {
  const at = { row: row - (row % pieceSize), col: col - (col % pieceSize) };
  const piece = useQuery(cellsQuery(open, board.revision, at.row, at.col)).data;
  const marks = piece?.looks[piece.cells[row - at.row]?.[col - at.col] ?? -1];
  const from = board.nodes[row];
  const to = board.nodes[col];
  if (!from || !to) return null;
  const says = marks ? marksName(marks) : "loading";
  return (
    <div
      role="row"
      aria-rowindex={row + 2}
      className="absolute"
      style={{ top: m.head + row * m.row, left: m.side + col * m.column }}
    >
      <div
        id={id}
        role="gridcell"
        aria-colindex={col + 2}
        aria-label={`${nodeName(from.id)} to ${nodeName(to.id)}: ${says}`}
        aria-selected={selected ?? false}
        title={says}
        data-cell={`${from.id}>${to.id}`}
        data-marks={marks?.map((mark) => mark.outcome).join(" ")}
        className={`cursor-pointer ${selected ? "outline-2 -outline-offset-1 outline-accent" : id ? "-outline-offset-1 outline-soft group-focus-visible/grid:outline" : "outline -outline-offset-1 outline-soft"}`}
        style={{ width: m.column - 1, height: m.row - 1 }}
      />
    </div>
  );
}
