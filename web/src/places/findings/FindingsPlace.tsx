import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { moreTroublesQuery, roadQuery, troublesQuery } from "../../api/queries";
import { useUrlState } from "../../frame/urlState";
import { Consequence } from "../../parts/Consequence";
import { ThingLink } from "../../parts/ThingLink";
import { capital, counted, serviceWords } from "../../parts/wording";
import { Road } from "../../road/Road";
import { kindOf } from "./kinds";
import { Repair } from "./Repair";

/** What wants to be looked at: faults, and what is legal and probably wrong. */
export function FindingsPlace() {
  const { params, change } = useUrlState();
  const asked = params.get("finding");
  const [named, setNamed] = useState(asked); // by the address, when the place was opened
  const troubles = useQuery(troublesQuery(named));
  const [picked, setPicked] = useState<Schemas["Trouble"] | null>(null);
  if (troubles.error) return <p className="p-7 text-denied">{troubles.error.message}</p>;
  if (!troubles.data) return <p className="p-7 text-soft">Checking every flow…</p>;
  const { kinds, faults, findings, revision, counting } = troubles.data;
  const listed = kinds.flatMap((k) => k.list);
  const found = [picked, troubles.data.asked, ...listed].find((x) => x?.key === asked);
  const selected = found ?? listed[0];
  const select = (x: Schemas["Trouble"]) => {
    setPicked(x);
    if (!listed.includes(x)) setNamed(x.key); // it is asked for again when the estate has changed
    change({ finding: x.key });
  };
  return (
    <div className="relative flex h-full">
      <section aria-label="Findings" className="min-w-0 flex-1 overflow-y-auto px-5 pt-3 pb-6">
        <p className="pb-2 text-[13px] text-soft">
          {faults === 0
            ? "No faults: the estate can be applied."
            : `${counted(faults, "fault")} to fix before the estate can be applied.`}{" "}
          {findings > 0 && `${counted(findings, "finding")}: permitted, but probably unintended.`}{" "}
          {counting && <span role="status">The estate was edited; checking its flows again…</span>}
        </p>
        {asked && !found && !troubles.isPlaceholderData && (
          <p role="status" className="pb-2 text-[13px]">
            This problem no longer exists: it was fixed, or it has changed.
          </p>
        )}
        {kinds.map((kind) => (
          <KindList key={kind.code} kind={kind} selected={selected} onSelect={select} />
        ))}
      </section>
      {selected && <Detail trouble={selected} kind={kindOfTrouble(kinds, selected)} revision={revision} />}
    </div>
  );
}

const kindOfTrouble = (kinds: Schemas["TroubleKind"][], x: Schemas["Trouble"]) =>
  kinds.some((k) => k.code === x.code) ? x.code : "fault";

interface KindListProps {
  kind: Schemas["TroubleKind"];
  selected: Schemas["Trouble"] | undefined;
  onSelect: (x: Schemas["Trouble"]) => void;
}

function KindList({ kind, selected, onSelect }: KindListProps) {
  const [wanted, setWanted] = useState(false);
  const more = useInfiniteQuery(moreTroublesQuery(kind.code, kind.list.length, wanted));
  const shown = useRef<HTMLButtonElement>(null);
  useEffect(() => {
    shown.current?.scrollIntoView({ block: "nearest" });
  }, [selected?.key]);
  const list = [...kind.list, ...(more.data?.pages.flat() ?? [])];
  const { title, why } = kindOf(kind.code);
  if (selected && kindOfTrouble([kind], selected) === kind.code && !list.some((x) => x.key === selected.key))
    list.push(selected); // an address named it
  const hidden = Math.max(0, kind.count - list.length);
  return (
    <section className="pt-3">
      <h2 className="flex items-baseline gap-2 border-b border-line pb-1">
        <span className="font-serif text-[16px] font-semibold">{title}</span>
        <span className="text-xs text-soft">{kind.count}</span>
        <span className="min-w-0 flex-1 truncate text-right text-xs text-soft">{why}</span>
      </h2>
      <ul>
        {list.map((x) => (
          <li key={x.key}>
            <button
              ref={x.key === selected?.key ? shown : undefined}
              aria-pressed={x.key === selected?.key}
              onClick={() => onSelect(x)}
              className="-mx-2 flex w-[calc(100%+1rem)] items-baseline gap-3 rounded px-2 py-1 text-left hover:bg-wash aria-pressed:bg-wash"
            >
              <span className="min-w-0 flex-1">{capital(x.message)}</span>
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
        <button
          disabled={more.isFetching}
          className="py-1 text-[13px] text-accent hover:underline"
          onClick={() => (wanted ? void more.fetchNextPage() : setWanted(true))}
        >
          Show more, of {hidden}
        </button>
      )}
      {more.error && <p className="text-[13px] text-denied">{more.error.message}</p>}
    </section>
  );
}

interface DetailProps {
  trouble: Schemas["Trouble"];
  kind: string;
  revision: number;
}

function Detail({ trouble, kind, revision }: DetailProps) {
  const fix = trouble.fix || kindOf(kind).fix;
  return (
    <aside
      aria-label="Finding"
      className="h-full w-[430px] flex-none overflow-y-auto border-l border-line bg-sheet px-5 pt-3 2xl:w-[540px]"
    >
      <h2 className="font-serif text-[17px] leading-snug font-semibold">{capital(trouble.message)}</h2>
      {fix && (
        <p className="pt-1.5">
          <span className="text-soft">How to fix it: </span>
          {fix}
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
      {trouble.remedies.length > 0 && <Remedies key={trouble.key} remedies={trouble.remedies} />}
      {trouble.witness && <WitnessRoad witness={trouble.witness} />}
    </aside>
  );
}

/** Edits that would mend it: one is looked at, with what it changes, before it is made. */
function Remedies({ remedies }: { remedies: Schemas["Remedy"][] }) {
  const [picked, setPicked] = useState<Schemas["Remedy"] | null>(null);
  return (
    <section aria-label="Fixes" className="pt-3">
      {remedies.map((w) => (
        <button
          key={w.words}
          aria-pressed={w === picked}
          onClick={() => setPicked(w === picked ? null : w)}
          className="mt-1.5 block rounded border border-accent px-2 py-0.5 text-left text-[13px] text-accent hover:bg-accent/10 aria-pressed:bg-accent/10"
        >
          {w.words}
        </button>
      ))}
      {picked && <Consequence edits={picked.edits} verb="Apply fix" onDone={() => setPicked(null)} />}
    </section>
  );
}

function WitnessRoad({ witness }: { witness: Schemas["Witness"] }) {
  const road = useQuery(roadQuery(witness));
  if (road.error) return <p className="py-3 text-denied">{road.error.message}</p>;
  if (!road.data) return null;
  return (
    <div className="-mx-5">
      <p className="px-5 pt-4 text-xs text-soft">Example flow</p>
      <Road trace={road.data.trace} sentence={road.data.sentence} />
    </div>
  );
}
