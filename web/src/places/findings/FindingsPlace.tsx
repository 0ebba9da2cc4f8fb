import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { roadQuery, troublesQuery } from "../../api/queries";
import { useAddress } from "../../frame/address";
import { Consequence } from "../../parts/Consequence";
import { ThingLink } from "../../parts/ThingLink";
import { counted, serviceWords } from "../../parts/wording";
import { Road } from "../../road/Road";
import { inKinds } from "./kinds";
import { Repair } from "./Repair";
import type { Kind, Listed } from "./kinds";

/** What wants to be looked at: faults, and what is legal and probably wrong. */
export function FindingsPlace() {
  const troubles = useQuery(troublesQuery);
  const { params, change } = useAddress();
  if (troubles.error) return <p className="p-7 text-denied">{troubles.error.message}</p>;
  if (!troubles.data) return <p className="p-7 text-soft">Looking at every flow…</p>;
  const kinds = inKinds(troubles.data);
  const all = kinds.flatMap((k) => k.list);
  const asked = params.get("finding");
  const found = all.find((x) => x.key === asked);
  const selected = found ?? all[0];
  return (
    <div className="relative flex h-full">
      <section aria-label="Findings" className="min-w-0 flex-1 overflow-y-auto px-5 pt-3 pb-6">
        <p className="pb-2 text-[13px] text-soft">
          {troubles.data.faults.length === 0
            ? "No faults: the estate can be applied."
            : `${counted(troubles.data.faults.length, "fault")} to mend before the estate can be applied.`}{" "}
          {troubles.data.findings.length > 0 &&
            `${counted(troubles.data.findings.length, "finding")}: legal, and probably wrong.`}
        </p>
        {asked && !found && (
          <p role="status" className="pb-2 text-[13px]">
            What this address named is not there any more: it was mended, or reads otherwise now.
          </p>
        )}
        {kinds.map((kind) => (
          <KindList
            key={kind.code}
            kind={kind}
            selected={selected?.key}
            onSelect={(key) => change({ finding: key })}
          />
        ))}
      </section>
      {selected && <Detail trouble={selected} revision={troubles.data.revision} />}
    </div>
  );
}

type KindListProps = { kind: Kind; selected: string | undefined; onSelect: (key: string) => void };

/** How many troubles of a kind are listed before the rest is asked for. */
const shownAtFirst = 25;

function KindList({ kind, selected, onSelect }: KindListProps) {
  const [all, setAll] = useState(false);
  const shown = useRef<HTMLButtonElement>(null);
  useEffect(() => {
    shown.current?.scrollIntoView({ block: "nearest" });
  }, [selected]);
  const meant = kind.list.findIndex((x) => x.key === selected) >= shownAtFirst; // by an address
  const hidden = all || meant ? 0 : Math.max(0, kind.list.length - shownAtFirst);
  return (
    <section className="pt-3">
      <h2 className="flex items-baseline gap-2 border-b border-line pb-1">
        <span className="font-serif text-[16px] font-semibold">{kind.title}</span>
        <span className="text-xs text-soft">{kind.list.length}</span>
        <span className="min-w-0 flex-1 truncate text-right text-xs text-soft">{kind.why}</span>
      </h2>
      <ul>
        {kind.list.slice(0, kind.list.length - hidden).map((x) => (
          <li key={x.key}>
            <button
              ref={x.key === selected ? shown : undefined}
              aria-pressed={x.key === selected}
              onClick={() => onSelect(x.key)}
              className="-mx-2 flex w-[calc(100%+1rem)] items-baseline gap-3 rounded px-2 py-1 text-left hover:bg-wash aria-pressed:bg-wash"
            >
              <span className="min-w-0 flex-1">{x.message}</span>
              {x.services && (
                <span className="max-w-[14rem] flex-none truncate font-mono text-xs text-soft">
                  {serviceWords(x.services)}
                </span>
              )}
            </button>
          </li>
        ))}
      </ul>
      {hidden > 0 && (
        <button className="py-1 text-[13px] text-accent hover:underline" onClick={() => setAll(true)}>
          Show {hidden} more
        </button>
      )}
    </section>
  );
}

function Detail({ trouble, revision }: { trouble: Listed; revision: number }) {
  return (
    <aside
      aria-label="Finding"
      className="h-full w-[430px] flex-none overflow-y-auto border-l border-line bg-sheet px-5 pt-3 2xl:w-[540px]"
    >
      <h2 className="font-serif text-[17px] leading-snug font-semibold">{trouble.message}</h2>
      {trouble.fix && (
        <p className="pt-1.5">
          <span className="text-soft">To mend it: </span>
          {trouble.fix}
        </p>
      )}
      {trouble.path && <p className="pt-1 font-mono text-xs text-soft">{trouble.path}</p>}
      {trouble.refs.length > 0 && (
        <ul className="flex flex-wrap gap-1.5 pt-2.5">
          {trouble.refs.map((r) => (
            <li key={r.kind + r.name}>
              <ThingLink thing={r} />
            </li>
          ))}
        </ul>
      )}
      {trouble.aside && <Repair key={trouble.aside.id} aside={trouble.aside} revision={revision} />}
      {trouble.ways.length > 0 && <Ways key={trouble.key} ways={trouble.ways} />}
      {trouble.witness && <WitnessRoad witness={trouble.witness} />}
    </aside>
  );
}

/** Edits that would mend it: one is looked at, with what it changes, before it is made. */
function Ways({ ways }: { ways: Schemas["Mend"][] }) {
  const [picked, setPicked] = useState<Schemas["Mend"] | null>(null);
  return (
    <section aria-label="Ways out" className="pt-3">
      {ways.map((w) => (
        <button
          key={w.words}
          aria-pressed={w === picked}
          onClick={() => setPicked(w === picked ? null : w)}
          className="mt-1.5 block rounded border border-accent px-2 py-0.5 text-left text-[13px] text-accent hover:bg-accent/10 aria-pressed:bg-accent/10"
        >
          {w.words}
        </button>
      ))}
      {picked && <Consequence edits={picked.edits} verb="Mend it so" onDone={() => setPicked(null)} />}
    </section>
  );
}

function WitnessRoad({ witness }: { witness: Schemas["Witness"] }) {
  const road = useQuery(roadQuery(witness));
  if (road.error) return <p className="py-3 text-denied">{road.error.message}</p>;
  if (!road.data) return null;
  return (
    <div className="-mx-5">
      <p className="px-5 pt-4 text-xs text-soft">One of these flows</p>
      <Road trace={road.data.trace} sentence={road.data.sentence} />
    </div>
  );
}
