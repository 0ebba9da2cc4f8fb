import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import type { Schemas } from "../../api/client";
import { estateQuery } from "../../api/queries";
import { observedQuery } from "../../api/targets";
import { nodeName, serviceWords } from "../../parts/wording";
import type { Measures } from "./layout";

/** Whether an account is observed only, so that the board can be compared with its lists. */
export function useIsObserved(): boolean {
  const estate = useQuery(estateQuery);
  return (estate.data?.counts.observed ?? 0) > 0;
}

/** The cells in which lists of observed accounts do something else than policies intend. */
export function useListCells(open: string[], shown: boolean) {
  return useQuery({ ...observedQuery(open), enabled: shown });
}

const saying = (c: Schemas["ObservedCell"]) => [
  ...(c.passes ? [`lists pass ${serviceWords(c.passes)}, which policies deny`] : []),
  ...(c.stops ? [`lists stop ${serviceWords(c.stops)}, which policies intend`] : []),
];

interface Props {
  cells: Schemas["ObservedCell"][];
  board: Schemas["Board"];
  m: Measures;
}

/** Corners on such cells: an open one where lists pass more, a filled one where they stop more. */
export function ListMarks({ cells, board, m }: Props) {
  const at = useMemo(() => new Map(board.nodes.map((n, i) => [n.id, i])), [board.nodes]);
  return cells.map((c) => {
    const [row, col] = [at.get(c.row), at.get(c.col)];
    if (row === undefined || col === undefined) return null;
    return (
      <div
        key={`${c.row}>${c.col}`}
        data-lists={`${c.row}>${c.col}`}
        className="pointer-events-none absolute"
        style={{
          top: m.head + row * m.row,
          left: m.side + col * m.column,
          width: m.column - 1,
          height: m.row - 1,
        }}
      >
        <span className="absolute top-0.5 right-0.5">
          <Corner passes={c.passes !== null} stops={c.stops !== null} />
        </span>
        <span className="sr-only">
          {nodeName(c.row)} to {nodeName(c.col)}: {saying(c).join("; ")}
        </span>
      </div>
    );
  });
}

function Corner({ passes, stops }: { passes: boolean; stops: boolean }) {
  return (
    <svg width="16" height="8" className="text-accent" aria-hidden>
      {passes && <circle cx="4" cy="4" r="2.75" fill="none" stroke="currentColor" strokeWidth="1.5" />}
      {stops && <circle cx="12" cy="4" r="3.25" fill="currentColor" />}
    </svg>
  );
}

/** What the marks mean. */
export function ListLegend({ cells, error }: { cells: number | undefined; error: Error | null }) {
  return (
    <p className="flex items-center gap-5 px-5 pb-2 text-[13px] text-soft">
      <span className="flex items-center gap-1.5">
        <Corner passes stops={false} /> lists pass what policies deny
      </span>
      <span className="flex items-center">
        <Corner passes={false} stops /> <span className="pl-1.5">lists stop what policies intend</span>
      </span>
      {error && <span className="text-denied">{error.message}</span>}
      {cells === 0 && <span>No cell differs.</span>}
    </p>
  );
}

/** What lists do otherwise in a cell, beside what it shows. */
export function ListsDo({ cell }: { cell: Schemas["ObservedCell"] | undefined }) {
  if (!cell) return null;
  return (
    <ul className="px-5 pb-2 text-[13px]" data-testid="lists-do">
      {saying(cell).map((words) => (
        <li key={words}>For some of these flows, {words}.</li>
      ))}
    </ul>
  );
}
