import { useQueries } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { ChevronDown, ChevronRight } from "lucide-react";
import { useMemo, useRef, useState } from "react";
import type { KeyboardEvent } from "react";
import type { Schemas } from "../../api/client";
import { rowsQuery, treePage } from "../../api/queries";
import { useUrlState } from "../../frame/urlState";
import { useNarrow } from "../../parts/useNarrow";
import { counted, grouped } from "../../parts/wording";
import { ReadingLine } from "./ReadingLine";

interface Props {
  find: string;
  unplaced: boolean;
  selected: string | null;
  accounts: Schemas["Account"][];
  onSelect: (id: string) => void;
}

const rowHeight = 30;
/** The columns, and fewer of them beside a sheet. */
const shape = {
  wide: "grid-cols-[minmax(15rem,2.2fr)_minmax(8rem,1.2fr)_minmax(10rem,2fr)_minmax(5rem,0.8fr)_minmax(8rem,1.6fr)_minmax(5rem,0.9fr)_3.6rem]",
  narrow: "grid-cols-[minmax(9rem,2fr)_minmax(7rem,1.1fr)_minmax(7rem,2.2fr)_minmax(4rem,0.7fr)_3.6rem]",
};

/** The tree of everything there is; only the rows on screen are fetched and drawn. */
export function Tree({ find, unplaced, selected, accounts, onSelect }: Props) {
  const { params, change } = useUrlState();
  const open = useMemo(() => (params.get("rows") ?? "").split(",").filter(Boolean), [params]);
  const scroller = useRef<HTMLDivElement>(null);
  const [cursor, setCursor] = useState(0);
  const look = { open, find, unplaced };
  const small = useNarrow();
  const narrow = selected !== null || small;
  const columns = `grid items-center gap-x-3 ${narrow ? shape.narrow : shape.wide}`;

  // The virtualizer keeps state of its own, which the compiler cannot see; it
  // needs the number of rows, which the first page tells.
  const [total, setTotal] = useState(0);
  // eslint-disable-next-line react-hooks/incompatible-library
  const rows = useVirtualizer({
    count: total,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 12,
  });
  const items = rows.getVirtualItems();
  const starts = [...new Set([0, ...items.map((i) => i.index - (i.index % treePage))])];
  const pages = useQueries({
    queries: starts.map((from) => rowsQuery({ ...look, from })),
    combine: (results) => new Map(results.map((r, i) => [starts[i], r])),
  });
  const first = pages.get(0);
  const known = first?.data?.total ?? total;
  if (known !== total) setTotal(known);
  const rowAt = (index: number) => {
    const from = index - (index % treePage);
    return pages.get(from)?.data?.rows[index - from];
  };

  const toggle = (row: Schemas["Row"]) => {
    const next = row.open ? open.filter((id) => id !== row.id) : [...open, row.id];
    change({ rows: next.join(",") }, true);
  };
  // A region, and what has no account, is nothing by itself.
  const lookAt = (row: Schemas["Row"]) =>
    row.kind === "region" || row.id === "account:no account" ? toggle(row) : onSelect(row.id);
  const onKey = (event: KeyboardEvent) => {
    const row = rowAt(cursor);
    const step = { ArrowDown: 1, ArrowUp: -1, PageDown: 15, PageUp: -15, Home: -total, End: total }[
      event.key
    ];
    if (step !== undefined) {
      const next = Math.max(0, Math.min(total - 1, cursor + step));
      setCursor(next);
      rows.scrollToIndex(next);
    } else if (row && event.key === "Enter") lookAt(row);
    else if (row && event.key === "ArrowRight" && !row.open && row.parts > 0) toggle(row);
    else if (row && event.key === "ArrowLeft" && row.open) toggle(row);
    else return;
    event.preventDefault();
  };

  if (first?.error) return <p className="px-5 text-denied">{first.error.message}</p>;
  return (
    <>
      <div
        className={`${columns} overflow-x-hidden overflow-y-auto px-5 border-b border-line pb-1 text-xs text-soft [scrollbar-gutter:stable]`}
      >
        <span>{find || unplaced ? counted(first?.data?.found ?? 0, "match", "matches") : "name"}</span>
        <span>addresses</span>
        <span>labels</span>
        <span>segment</span>
        {!narrow && <span>groups</span>}
        {!narrow && <span>attached to</span>}
        <span className="text-right" title="faults and findings that refer to it">
          findings
        </span>
      </div>
      <div
        ref={scroller}
        role="treegrid"
        aria-label="Inventory"
        aria-rowcount={total}
        aria-activedescendant={`row-${cursor}`}
        tabIndex={0}
        onKeyDown={onKey}
        className="group/tree min-h-0 flex-1 overflow-auto px-5 [scrollbar-gutter:stable]"
      >
        {first?.data && total === 0 && <Nothing find={find} unplaced={unplaced} />}
        <div className="relative" style={{ height: rows.getTotalSize() }}>
          {items.map((item) => {
            const row = rowAt(item.index);
            return (
              <div
                key={row?.id ?? item.key}
                id={`row-${item.index}`}
                role="row"
                aria-level={(row?.depth ?? 0) + 1}
                aria-expanded={row && row.parts > 0 ? row.open : undefined}
                aria-selected={row?.id === selected}
                data-thing={row?.id}
                onClick={() => {
                  setCursor(item.index);
                  if (row) lookAt(row);
                }}
                className={`${columns} absolute inset-x-0 cursor-pointer border-b border-line/60 hover:bg-wash aria-selected:bg-wash ${item.index === cursor ? "group-focus-visible/tree:outline group-focus-visible/tree:-outline-offset-1 group-focus-visible/tree:outline-accent" : ""}`}
                style={{ top: item.start, height: rowHeight }}
              >
                {row && (
                  <RowCells
                    row={row}
                    account={row.kind === "account" ? accounts.find((a) => a.name === row.name) : undefined}
                    narrow={narrow}
                    onToggle={() => toggle(row)}
                  />
                )}
              </div>
            );
          })}
        </div>
      </div>
    </>
  );
}

function Nothing({ find, unplaced }: { find: string; unplaced: boolean }) {
  return (
    <p className="py-5 text-soft">
      {find
        ? `Nothing found for ${find}.`
        : unplaced
          ? "Every network and subnet is in a segment."
          : "The estate is empty: connect an account, or import a document."}
    </p>
  );
}

interface CellsProps {
  row: Schemas["Row"];
  account: Schemas["Account"] | undefined;
  narrow: boolean;
  onToggle: () => void;
}

function RowCells({ row, account, narrow, onToggle }: CellsProps) {
  const name = (
    <span
      role="gridcell"
      className="flex min-w-0 items-center gap-1.5"
      style={{ paddingLeft: row.depth * 16 }}
    >
      {row.parts > 0 ? (
        <button
          tabIndex={-1}
          aria-label={`${row.open ? "Close" : "Open"} ${row.name}`}
          onClick={(e) => {
            e.stopPropagation();
            onToggle();
          }}
          className="-m-1 flex-none p-1 text-soft hover:text-accent"
        >
          {row.open ? <ChevronDown size={14} aria-hidden /> : <ChevronRight size={14} aria-hidden />}
        </button>
      ) : (
        <span className="w-3.5 flex-none" />
      )}
      <span
        className={`truncate ${row.kind === "account" ? "font-serif text-[15px] font-semibold" : ""} ${row.kind === "region" || row.kind === "subnet" ? "text-soft" : ""} ${row.found ? "font-semibold text-accent" : ""}`}
        title={`${row.kind} ${row.name}`}
      >
        {row.name}
      </span>
      {row.workloads > 0 && row.kind !== "workload" && (
        <span className="flex-none text-xs text-soft" title={counted(row.workloads, "workload")}>
          {grouped(row.workloads)}
        </span>
      )}
      {row.account && <span className="flex-none text-xs text-soft">of {row.account}</span>}
      {row.state === "gone" && (
        <span className="flex-none text-xs text-denied">no longer in its account</span>
      )}
    </span>
  );
  if (account) {
    return (
      <>
        {name}
        <span role="gridcell" className={`min-w-0 ${narrow ? "col-span-4" : "col-span-6"}`}>
          <ReadingLine account={account} />
        </span>
      </>
    );
  }
  const placeless = (row.kind === "network" || row.kind === "subnet") && row.segments.length === 0;
  return (
    <>
      {name}
      <span role="gridcell" className="truncate font-mono text-[13px]" title={row.at}>
        {row.at}
      </span>
      <Labels labels={row.labels} />
      <span role="gridcell" className={`truncate ${placeless ? "text-denied" : ""}`}>
        {placeless ? "none yet" : row.segments.join(", ")}
      </span>
      {!narrow && (
        <>
          <span role="gridcell" className="truncate text-[13px]" title={row.groups.join(", ")}>
            {row.groups.join(", ")}
          </span>
          <span role="gridcell" className="truncate text-[13px]">
            {row.places.map((p, i) => (
              <span key={p.hub} className={p.state === "down" ? "text-denied" : ""}>
                {i > 0 && ", "}
                {p.hub}
                {p.state === "down" && " (down)"}
              </span>
            ))}
          </span>
        </>
      )}
      <span role="gridcell" className="text-right text-[13px] text-denied">
        {row.issues > 0 ? row.issues : ""}
      </span>
    </>
  );
}

function Labels({ labels }: { labels: Record<string, string> }) {
  const list = Object.entries(labels);
  return (
    <span
      role="gridcell"
      className="truncate font-mono text-xs"
      title={list.map(([key, value]) => `${key}=${value}`).join(", ")}
    >
      {list.map(([key, value], i) => (
        <span key={key}>
          {i > 0 && " "}
          <span className="text-soft">{key}=</span>
          {value}
        </span>
      ))}
    </span>
  );
}
