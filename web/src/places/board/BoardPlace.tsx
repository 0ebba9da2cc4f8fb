import { useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { ChevronDown, ChevronRight } from "lucide-react";
import { memo, useEffect, useMemo, useRef, useState } from "react";
import type { KeyboardEvent, MouseEvent, RefObject } from "react";
import type { Schemas } from "../../api/client";
import { boardQuery, pieceSize } from "../../api/queries";
import { ScopeStrip, useScope } from "../../frame/scope";
import { useUrlState } from "../../frame/urlState";
import { counted, grouped, nodeName } from "../../parts/wording";
import { Panel } from "../../road/Panel";
import { Changed, useChangedCells } from "./Changed";
import { bringIntoView, cellUnder, label, measuresFor, moved } from "./layout";
import type { Measures } from "./layout";
import { Legend } from "./Legend";
import { ListLegend, ListMarks, useIsObserved, useListCells } from "./ListMarks";
import { Over } from "./Over";
import { Piece } from "./Piece";
import { ScopeCells } from "./ScopeCells";
import { useSize } from "./useSize";

type Node = Schemas["BoardNode"];

/** The board: sources down, destinations across, every outcome between. */
export function BoardPlace() {
  const { params, change } = useUrlState();
  const open = useMemo(() => (params.get("open") ?? "").split(",").filter(Boolean), [params]);
  const board = useQuery(boardQuery(open));
  const changed = useChangedCells();
  const scope = useScope();
  const compare = params.get("compare") !== "no";
  const observed = useIsObserved();
  const withLists = observed && params.get("lists") === "shown";
  const lists = useListCells(open, withLists);
  const segments = board.data?.nodes.filter((n) => n.kind === "segment").map((n) => n.segment) ?? [];
  const toggle = (segment: string) =>
    change({
      open: (open.includes(segment) ? open.filter((s) => s !== segment) : [...open, segment]).join(","),
    });
  return (
    <div className="relative flex h-full">
      <section aria-label="Board" className="flex min-w-0 flex-1 flex-col">
        <div className="flex items-center gap-5 px-5 pt-3 pb-2 text-[13px]">
          <p className={`text-soft max-[960px]:hidden ${observed ? "hidden 2xl:block" : ""}`}>
            Rows: source. Columns: destination. Each cell shows all outcomes between the two, those of the
            most flows first.
          </p>
          <span className="flex-1" />
          {changed && (
            <label className="flex flex-none items-center gap-1.5">
              <input
                type="checkbox"
                checked={compare}
                onChange={(e) => change({ compare: e.target.checked ? null : "no" })}
              />
              Mark what the draft changes ({counted(changed.length, "cell")})
            </label>
          )}
          {observed && (
            <label className="flex flex-none items-center gap-1.5">
              <input
                type="checkbox"
                checked={withLists}
                onChange={(e) => change({ lists: e.target.checked ? "shown" : null })}
              />
              Compare with the lists of observed accounts
              {lists.isFetching && <span className="text-soft">reading…</span>}
            </label>
          )}
          <button
            className="flex-none whitespace-nowrap text-accent hover:underline"
            onClick={() => change({ open: open.length === segments.length ? null : segments.join(",") })}
          >
            {open.length === segments.length && open.length > 0 ? "Close all" : "Open all"}
          </button>
        </div>
        <ScopeStrip />
        {withLists && <ListLegend cells={lists.data?.cells.length} error={lists.error} />}
        {board.error && <p className="px-5 text-denied">{board.error.message}</p>}
        {board.data && (
          <Grid
            board={board.data}
            open={open}
            changed={compare && changed ? changed : []}
            lists={withLists ? (lists.data?.cells ?? []) : []}
            scope={scope?.scope}
            onToggle={toggle}
          />
        )}
        <Legend />
      </section>
      <Panel />
    </div>
  );
}

type GridProps = {
  board: Schemas["Board"];
  open: string[];
  changed: Schemas["CellEffect"][];
  lists: Schemas["ObservedCell"][];
  scope: Schemas["ObjectScope"] | undefined;
  onToggle: (segment: string) => void;
};

function Grid({ board, open, changed, lists, scope, onToggle }: GridProps) {
  const { params, change } = useUrlState();
  const { nodes } = board;
  const size = nodes.length;
  const scroller = useRef<HTMLDivElement>(null);
  const room = useSize(scroller);
  const m = useMemo(() => measuresFor(size, room), [size, room]);
  const rowAt = nodes.findIndex((n) => n.id === params.get("row"));
  const colAt = nodes.findIndex((n) => n.id === params.get("col"));
  const selected = rowAt >= 0 && colAt >= 0;
  const [cursor, setCursor] = useState({ row: 0, col: 0 });
  const at = selected
    ? { row: rowAt, col: colAt }
    : { row: Math.min(cursor.row, size - 1), col: Math.min(cursor.col, size - 1) };

  const wanted = selected ? [rowAt, colAt] : firstOf(scope, nodes);
  const place = wanted?.join(" ") ?? "";
  useEffect(() => {
    const [row, col] = place.split(" ").map(Number);
    if (scroller.current && place !== "" && row !== undefined && col !== undefined)
      bringIntoView(scroller.current, m, { row, col });
  }, [place, m]);
  const select = (row: number, col: number) => {
    setCursor({ row, col });
    const from = nodes[row];
    const to = nodes[col];
    if (from && to) change({ row: from.id, col: to.id, at: null });
  };
  const [pointer, setPointer] = useState<{ row: number; col: number } | null>(null);
  const under = (event: MouseEvent) =>
    scroller.current && cellUnder(scroller.current, m, size, { x: event.clientX, y: event.clientY });
  const onClick = (event: MouseEvent) => {
    const cell = under(event);
    if (cell) select(cell.row, cell.col);
  };
  const onMove = (event: MouseEvent) => {
    const cell = under(event);
    if (cell?.row !== pointer?.row || cell?.col !== pointer?.col) setPointer(cell);
  };
  const onKey = (event: KeyboardEvent) => {
    const next = moved(at, event.key, size);
    if (next) {
      event.preventDefault();
      if (scroller.current) bringIntoView(scroller.current, m, next);
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
      aria-activedescendant="cell-at"
      tabIndex={0}
      onKeyDown={onKey}
      onClick={onClick}
      onMouseMove={onMove}
      onMouseLeave={() => setPointer(null)}
      className="group/grid mx-5 min-h-0 flex-1 overflow-auto outline-offset-4"
    >
      <div className="relative" style={{ width: m.side + size * m.column, height: m.head + size * m.row }}>
        <ColumnHeads nodes={nodes} scroller={scroller} m={m} lit={selected ? at.col : -1} />
        <RowHeads nodes={nodes} scroller={scroller} m={m} lit={selected ? at.row : -1} onToggle={onToggle} />
        <Pieces board={board} open={open} scroller={scroller} m={m} />
        <Changed cells={changed} board={board} m={m} />
        <ListMarks cells={lists} board={board} m={m} />
        <ScopeCells scope={scope} board={board} m={m} />
        <Over board={board} open={open} m={m} row={at.row} col={at.col} id="cell-at" selected={selected} />
        {pointer && <Over board={board} open={open} m={m} row={pointer.row} col={pointer.col} />}
      </div>
    </div>
  );
}

/** The row and column of the first cell of a scope that the board has. */
function firstOf(scope: Schemas["ObjectScope"] | undefined, nodes: Node[]): [number, number] | null {
  const place = (id: string) => (id === "*" ? 0 : nodes.findIndex((n) => n.id === id));
  for (const c of scope?.cells ?? []) {
    const [row, col] = [place(c.row), place(c.col)];
    if (row >= 0 && col >= 0) return [row, col];
  }
  return null;
}

type Scroller = RefObject<HTMLDivElement | null>;
type PiecesProps = { board: Schemas["Board"]; open: string[]; scroller: Scroller; m: Measures };

/** The pieces that are on screen, and those that scrolling comes to next. */
const Pieces = memo(function Pieces({ board, open, scroller, m }: PiecesProps) {
  const count = Math.ceil(board.nodes.length / pieceSize);
  const rows = useVisible(scroller, count, m.row * pieceSize, false, 1);
  const cols = useVisible(scroller, count, m.column * pieceSize, true, 1);
  return rows.flatMap((r) =>
    cols.map((c) => (
      <Piece
        key={`${open.join()} ${r} ${c}`}
        revision={board.revision}
        open={open}
        nodes={board.nodes}
        row={r * pieceSize}
        col={c * pieceSize}
        m={m}
      />
    )),
  );
});

/** Which of many things of one size are on screen, and some more on either side. */
function useVisible(
  scroller: Scroller,
  count: number,
  size: number,
  horizontal: boolean,
  more: number,
): number[] {
  // The virtualizer keeps state of its own, which the compiler cannot see.
  // eslint-disable-next-line react-hooks/incompatible-library
  const virtual = useVirtualizer({
    count,
    horizontal,
    getScrollElement: () => scroller.current,
    estimateSize: () => size,
    overscan: more,
  });
  useEffect(() => virtual.measure(), [size, virtual]);
  return virtual.getVirtualItems().map((item) => item.index);
}

type HeadsProps = { nodes: Node[]; scroller: Scroller; m: Measures; lit: number };

function ColumnHeads({ nodes, scroller, m, lit }: HeadsProps) {
  const cols = useVisible(scroller, nodes.length, m.column, true, 4);
  return (
    <div role="row" aria-rowindex={1} className="sticky top-0 z-20 bg-paper" style={{ height: m.head }}>
      <span
        className="sticky left-0 z-10 inline-block border-b border-line bg-paper align-top"
        style={{ width: m.side, height: m.head }}
      />
      {cols.map((c) => {
        const node = nodes[c];
        return (
          node && <ColumnHead key={node.id} node={node} left={m.side + c * m.column} m={m} lit={c === lit} />
        );
      })}
    </div>
  );
}

function RowHeads({
  nodes,
  scroller,
  m,
  lit,
  onToggle,
}: HeadsProps & { onToggle: (segment: string) => void }) {
  const rows = useVisible(scroller, nodes.length, m.row, false, 6);
  return (
    <div className="sticky left-0 z-10" style={{ width: m.side, height: nodes.length * m.row }}>
      {rows.map((r) => {
        const node = nodes[r];
        return (
          node && (
            <div
              key={node.id}
              role="row"
              data-row={node.id}
              aria-rowindex={r + 2}
              className="absolute left-0"
              style={{ top: r * m.row, height: m.row }}
            >
              <RowHead node={node} m={m} onToggle={onToggle} lit={r === lit} />
            </div>
          )
        );
      })}
    </div>
  );
}

type HeadProps = { node: Node; m: Measures; lit: boolean };

function ColumnHead({ node, left, m, lit }: HeadProps & { left: number }) {
  const upright = m.head > 60;
  return (
    <span
      role="columnheader"
      data-col={node.id}
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
  const shape = `flex items-center justify-between gap-2 border-r border-b border-line bg-paper pr-2 ${lit ? "text-accent" : ""}`;
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
        {node.open ? <ChevronDown size={14} aria-hidden /> : <ChevronRight size={14} aria-hidden />}
        <span className="truncate">{node.segment}</span>
      </button>
      <span className="text-xs text-soft" title={`${node.workloads} workloads`}>
        {grouped(node.workloads)}
      </span>
    </span>
  );
}
