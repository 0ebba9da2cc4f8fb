import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import type { Schemas } from "../../api/client";
import { draftQuery } from "../../api/drafts";
import { useWhere } from "../../frame/where";
import { marksName } from "../../parts/marks/geometry";
import { Marks } from "../../parts/marks/RoadMark";
import { nodeName } from "../../parts/wording";
import type { Measures } from "./layout";

/** The cells of the board that the draft changes, where one is looked at; null elsewhere. */
export function useChangedCells(): Schemas["CellEffect"][] | null {
  const w = useWhere();
  const id = w.kind === "draft" ? w.id : 0;
  const draft = useQuery({ ...draftQuery(id), enabled: id > 0 });
  if (id === 0 || draft.data?.id !== id) return null;
  return draft.data.consequence.effect?.cells ?? [];
}

interface Props {
  cells: Schemas["CellEffect"][];
  board: Schemas["Board"];
  m: Measures;
}

/** Frames around the cells that the draft changes, each with what it was before. */
export function Changed({ cells, board, m }: Props) {
  const at = useMemo(() => new Map(board.nodes.map((n, i) => [n.id, i])), [board.nodes]);
  return cells.map((c) => {
    const [row, col] = [at.get(c.row), at.get(c.col)];
    if (row === undefined || col === undefined) return null;
    const was = `Before the draft: ${marksName(c.before)}`;
    return (
      <div
        key={`${c.row}>${c.col}`}
        data-changed={`${c.row}>${c.col}`}
        title={was}
        className={`pointer-events-none absolute border-2 ${c.outcome ? "border-accent" : "border-dashed border-accent/60"}`}
        style={{
          top: m.head + row * m.row,
          left: m.side + col * m.column,
          width: m.column - 1,
          height: m.row - 1,
        }}
      >
        <span className="sr-only">
          {nodeName(c.row)} to {nodeName(c.col)}: {was}
        </span>
      </div>
    );
  });
}

/** What a cell was before the draft, beside what it is. */
export function Before({ cells, row, col }: { cells: Schemas["CellEffect"][]; row: string; col: string }) {
  const cell = cells.find((c) => c.row === row && c.col === col);
  if (!cell) return null;
  return (
    <p className="flex items-center gap-2 px-5 pb-2 text-[13px] text-soft" data-testid="before">
      Before the draft: <Marks marks={cell.before} size={12} />
    </p>
  );
}
