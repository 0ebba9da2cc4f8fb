import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState } from "react";
import { NavLink, useLocation } from "react-router";
import type { Target } from "../../api/targets";

type Row = { title: string } | Target;

const groups: [string, string][] = [
  ["segment", "Match lists, at every hub"],
  ["hub", "Hubs"],
  ["pool", "Pools"],
  ["network", "Networks"],
];

/** The targets, by kind and name; narrowed by what is typed. */
export function TargetList({ targets }: { targets: Target[] }) {
  const [text, setText] = useState("");
  const { search } = useLocation();
  const scroll = useRef<HTMLDivElement>(null);
  const rows = useMemo(() => {
    const wanted = text.trim().toLowerCase();
    return groups.flatMap(([kind, title]): Row[] => {
      const list = targets.filter(
        (t) => t.kind === kind && `${t.name} ${t.provider} ${t.account}`.toLowerCase().includes(wanted),
      );
      return list.length > 0 ? [{ title }, ...list] : [];
    });
  }, [targets, text]);
  // The virtualizer keeps state of its own, which the compiler cannot see.
  // eslint-disable-next-line react-hooks/incompatible-library
  const list = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => 30,
    overscan: 12,
  });
  const without = new URLSearchParams(search);
  without.delete("for");
  return (
    <nav aria-label="Targets" className="flex w-[272px] flex-none flex-col border-r border-line">
      <div className="px-4 pt-4 pb-2">
        <input
          aria-label="Find a target"
          placeholder="Find a target"
          value={text}
          onChange={(event) => setText(event.target.value)}
          className="w-full rounded border border-line bg-sheet px-2 py-1"
        />
      </div>
      <p className="flex gap-4 px-4 pb-1">
        {[
          ["", "Summary"],
          ["/proof", "Proof"],
          ["/drift", "Drift"],
          ["/observed", "Observed"],
        ].map(([path, called]) => (
          <NavLink
            key={path}
            end
            to={{ pathname: `/targets${path}`, search: without.toString() }}
            className="text-soft hover:text-ink aria-[current=page]:font-semibold aria-[current=page]:text-ink"
          >
            {called}
          </NavLink>
        ))}
      </p>
      <div ref={scroll} className="min-h-0 flex-1 overflow-y-auto pb-6">
        <div className="relative" style={{ height: list.getTotalSize() }}>
          {list.getVirtualItems().map((v) => {
            const row = rows[v.index];
            if (!row) return null;
            const at = { transform: `translateY(${v.start}px)` };
            return "title" in row ? (
              <p key={v.key} style={at} className="absolute px-4 pt-2 text-[13px] text-soft">
                {row.title}
              </p>
            ) : (
              <NavLink
                key={v.key}
                style={at}
                to={{ pathname: `/targets/${row.kind}/${row.name}`, search: without.toString() }}
                className="absolute flex w-full items-baseline gap-2 border-l-2 border-transparent px-4 py-1 hover:bg-wash aria-[current=page]:border-accent aria-[current=page]:bg-wash"
              >
                <span className="min-w-0 flex-1 truncate">{row.name}</span>
                {row.observed && <span className="text-[13px] text-soft">observed</span>}
                {row.refused && <span className="text-[13px] text-denied">does not fit</span>}
                <span className="text-[13px] text-soft">{row.kind === "network" && row.provider}</span>
                <span className="w-10 text-right text-[13px] text-soft tabular-nums">{row.rules}</span>
              </NavLink>
            );
          })}
        </div>
      </div>
    </nav>
  );
}
