import { useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { memo, useCallback, useEffect, useMemo, useRef, useState } from "react";
import type { KeyboardEvent } from "react";
import type { Schemas } from "../../api/client";
import { boardQuery } from "../../api/queries";
import { useAddress } from "../../frame/address";
import { Marks } from "../../parts/marks/RoadMark";
import { grouped, nodeName } from "../../parts/wording";
import { Panel } from "../../road/Panel";
import { label, markSize, measuresFor, moved } from "./layout";
import type { Measures } from "./layout";
import { Legend } from "./Legend";
import { usePieces } from "./pieces";

/** The board: sources down, destinations across, every outcome between. */
export function BoardPlace() {
  const { params, change } = useAddress();
  const open = useMemo(() => (params.get("open") ?? "").split(",").filter(Boolean), [params]);
  const board = useQuery(boardQuery(open));
  const segments = board.data?.nodes.filter((n) => n.kind === "segment").map((n) => n.segment) ?? [];
  const toggle = (segment: string) =>
    change({
      open: (open.includes(segment) ? open.filter((s) => s !== segment) : [...open, segment]).join(","),
    });
  return (
    <div className="relative flex h-full">
      <section aria-label="Board" className="flex min-w-0 flex-1 flex-col">
        <div className="flex items-center gap-5 px-5 pt-3 pb-2 text-[13px]">
          <p className="text-soft max-[960px]:hidden">
            Sources down, destinations across. Each cell has every outcome between the two, of the most flows
            first.
          </p>
          <span className="flex-1" />
          <button
            className="flex-none whitespace-nowrap text-accent hover:underline"
            onClick={() => change({ open: open.length === segments.length ? null : segments.join(",") })}
          >
            {open.length === segments.length && open.length > 0 ? "Close all" : "Open all"}
          </button>
        </div>
        {board.error && <p className="px-5 text-denied">{board.error.message}</p>}
        {board.data && <Grid board={board.data} open={open} onToggle={toggle} />}
        <Legend />
      </section>
      <Panel />
    </div>
  );
}

type GridProps = { board: Schemas["Board"]; open: string[]; onToggle: (segment: string) => void };

function Grid({ board, open, onToggle }: GridProps) {
  const { params, change } = useAddress();
  const { nodes } = board;
  const size = nodes.length;
  const m = useMemo(() => measuresFor(size), [size]);
  const scroller = useRef<HTMLDivElement>(null);
  const rowAt = nodes.findIndex((n) => n.id === params.get("row"));
  const colAt = nodes.findIndex((n) => n.id === params.get("col"));
  const selected = rowAt >= 0 && colAt >= 0 ? { row: rowAt, col: colAt } : null;
  const [cursor, setCursor] = useState({ row: 0, col: 0 });
  const at = selected ?? { row: Math.min(cursor.row, size - 1), col: Math.min(cursor.col, size - 1) };

  // The virtualizers keep state of their own, which the compiler cannot see.
  // eslint-disable-next-line react-hooks/incompatible-library
  const rows = useVirtualizer({
    count: size,
    getScrollElement: () => scroller.current,
    estimateSize: () => m.row,
    overscan: 6,
  });
  const cols = useVirtualizer({
    count: size,
    horizontal: true,
    getScrollElement: () => scroller.current,
    estimateSize: () => m.column,
    overscan: 4,
  });
  useEffect(() => {
    rows.measure();
    cols.measure();
  }, [m.row, m.column, rows, cols]);

  const marksAt = usePieces(board.revision, open, rows.getVirtualItems(), cols.getVirtualItems());

  const select = (row: number, col: number) => {
    setCursor({ row, col });
    const from = nodes[row];
    const to = nodes[col];
    if (from && to) change({ row: from.id, col: to.id, at: null });
  };

  // Cells keep one function for good, and it finds what is current when it is called.
  const latest = useRef(select);
  useEffect(() => {
    latest.current = select;
  });
  const onSelect = useCallback((row: number, col: number) => latest.current(row, col), []);

  const onKey = (event: KeyboardEvent) => {
    const next = moved(at, event.key, size);
    if (next) {
      event.preventDefault();
      rows.scrollToIndex(next.row);
      cols.scrollToIndex(next.col);
      if (selected) select(next.row, next.col);
      else setCursor(next);
      return;
    }
    const row = nodes[at.row];
    if (event.key === "Enter") select(at.row, at.col);
    else if (event.key === "Escape" && selected) change({ row: null, col: null, at: null });
    else if (event.key === "o" && row?.segment) onToggle(row.segment);
    else return;
    event.preventDefault();
  };

  return (
    <div
      ref={scroller}
      role="grid"
      aria-label="Outcomes"
      aria-rowcount={size + 1}
      aria-colcount={size + 1}
      aria-activedescendant={`cell-${at.row}-${at.col}`}
      tabIndex={0}
      onKeyDown={onKey}
      className="mx-5 min-h-0 flex-1 overflow-auto outline-offset-4"
    >
      <div
        className="relative"
        style={{ width: m.side + cols.getTotalSize(), height: m.head + rows.getTotalSize() }}
      >
        <div role="row" className="sticky top-0 z-20 bg-paper" style={{ height: m.head }}>
          <span
            className="sticky left-0 z-10 inline-block border-b border-line bg-paper align-top"
            style={{ width: m.side, height: m.head }}
          />
          {cols.getVirtualItems().map((c) => {
            const node = nodes[c.index];
            return (
              node && (
                <ColumnHead
                  key={c.key}
                  node={node}
                  left={m.side + c.start}
                  m={m}
                  lit={c.index === at.col && selected !== null}
                />
              )
            );
          })}
        </div>
        {rows.getVirtualItems().map((r) => {
          const node = nodes[r.index];
          if (!node) return null;
          return (
            <div
              key={r.key}
              role="row"
              aria-label={nodeName(node.id)}
              className="absolute left-0 w-full"
              style={{ top: m.head + r.start, height: m.row }}
            >
              <RowHead node={node} m={m} onToggle={onToggle} lit={r.index === at.row && selected !== null} />
              {cols.getVirtualItems().map((c) => (
                <BoardCell
                  key={c.key}
                  row={r.index}
                  col={c.index}
                  from={node.id}
                  to={nodes[c.index]?.id ?? ""}
                  outer={
                    node.kind === "segment" || node.kind === "internet" || nodes[c.index]?.kind === "segment"
                  }
                  current={at.row === r.index && at.col === c.index}
                  selected={selected !== null && at.row === r.index && at.col === c.index}
                  left={m.side + c.start}
                  m={m}
                  marks={marksAt(r.index, c.index)}
                  onSelect={onSelect}
                />
              ))}
            </div>
          );
        })}
      </div>
    </div>
  );
}

interface CellProps {
  row: number;
  col: number;
  from: string;
  to: string;
  outer: boolean;
  current: boolean;
  selected: boolean;
  left: number;
  m: Measures;
  marks: Schemas["Mark"][] | null;
  onSelect: (row: number, col: number) => void;
}

/** One cell. It is drawn anew only if something of it changes: scrolling moves hundreds. */
const BoardCell = memo(function BoardCell(c: CellProps) {
  return (
    <button
      id={`cell-${c.row}-${c.col}`}
      role="gridcell"
      tabIndex={-1}
      aria-label={`${nodeName(c.from)} to ${nodeName(c.to)}`}
      aria-selected={c.current}
      data-selected={c.selected || undefined}
      data-cell={`${c.from}>${c.to}`}
      onClick={() => c.onSelect(c.row, c.col)}
      className={`absolute top-0 flex items-center justify-center border-r border-b border-line hover:bg-wash data-selected:bg-wash data-selected:outline-2 data-selected:-outline-offset-1 data-selected:outline-accent ${c.outer ? "bg-sheet" : ""}`}
      style={{ left: c.left, width: c.m.column, height: c.m.row }}
    >
      <CellMarks marks={c.marks} m={c.m} />
    </button>
  );
});

function CellMarks({ marks, m }: { marks: Schemas["Mark"][] | null; m: Measures }) {
  if (!marks) return <span aria-label="loading" className="size-1 rounded-full bg-line" />;
  return <Marks marks={marks} size={markSize(m, marks.length)} tight={m.column < 60} />;
}

type HeadProps = { node: Schemas["BoardNode"]; m: Measures; lit: boolean };

function ColumnHead({ node, left, m, lit }: HeadProps & { left: number }) {
  const upright = m.head > 60;
  return (
    <span
      role="columnheader"
      title={nodeName(node.id)}
      className={`absolute bottom-0 flex justify-center border-r border-b border-line bg-paper pb-1.5 ${upright ? "items-end" : "items-center"} ${lit ? "text-accent" : ""}`}
      style={{ left, width: m.column, height: m.head }}
    >
      <span
        className={`max-h-full truncate ${node.kind === "group" || node.kind === "rest" ? "text-[13px]" : "font-semibold"}`}
        style={
          upright
            ? { writingMode: "vertical-rl", transform: "rotate(180deg)", maxHeight: m.head - 12 }
            : undefined
        }
      >
        {label(node)}
      </span>
    </span>
  );
}

function RowHead({ node, m, onToggle, lit }: HeadProps & { onToggle: (segment: string) => void }) {
  const inner = node.kind === "group" || node.kind === "rest";
  const body = (
    <>
      <span className="truncate">{label(node)}</span>
      <span className="text-xs font-normal text-soft">
        {node.kind === "internet" ? "" : grouped(node.workloads)}
      </span>
    </>
  );
  const shape = `sticky left-0 z-10 flex items-center justify-between gap-2 border-r border-b border-line bg-paper pr-2 ${lit ? "text-accent" : ""}`;
  if (node.kind !== "segment") {
    return (
      <span
        role="rowheader"
        title={`${node.workloads} workloads`}
        className={`${shape} ${inner ? "pl-6 text-[13px]" : "pl-5 font-semibold"}`}
        style={{ width: m.side, height: m.row }}
      >
        {body}
      </span>
    );
  }
  return (
    <span role="rowheader" className={shape} style={{ width: m.side, height: m.row }}>
      <button
        aria-expanded={node.open}
        aria-label={`${node.open ? "Close" : "Open"} ${node.segment}`}
        onClick={() => onToggle(node.segment)}
        className="flex h-full flex-1 items-center gap-1.5 font-semibold hover:text-accent"
      >
        <Fork open={node.open} />
        <span className="truncate">{node.segment}</span>
      </button>
      <span className="text-xs text-soft" title={`${node.workloads} workloads`}>
        {grouped(node.workloads)}
      </span>
    </span>
  );
}

/** One line that forks when it is open. */
function Fork({ open }: { open: boolean }) {
  return (
    <svg
      aria-hidden
      width="14"
      height="14"
      viewBox="0 0 14 14"
      fill="none"
      stroke="currentColor"
      strokeWidth="1.8"
      strokeLinecap="round"
    >
      {open ? <path d="M7 2v3c0 3-4 3-4 7M7 5c0 3 4 3 4 7" /> : <path d="M2 7h10" />}
    </svg>
  );
}
