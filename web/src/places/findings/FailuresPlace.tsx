import { useQuery } from "@tanstack/react-query";
import { ArrowRight } from "lucide-react";
import { Link, useLocation } from "react-router";
import type { Schemas } from "../../api/client";
import { failuresQuery } from "../../api/queries";
import { useUrlState } from "../../frame/urlState";
import { problemText } from "../../parts/ConsequenceView";
import { RoadMark } from "../../parts/marks/RoadMark";
import { capital, counted, serviceWords } from "../../parts/wording";
import { Panel } from "../../road/Panel";

/** What would change if a hub, link, attachment or firewall failed: each by itself. */
export function FailuresPlace() {
  const { params } = useUrlState();
  const { search } = useLocation();
  const of = params.get("of") ?? "";
  const failures = useQuery(failuresQuery(of));
  const all = new URLSearchParams(search);
  all.delete("of");
  return (
    <div className="relative flex h-full">
      <section aria-label="Failures" className="min-w-0 flex-1 overflow-y-auto px-7 pt-5 pb-8">
        <p className="text-[13px]">
          <Link
            to={{ pathname: "/findings", search: all.toString() }}
            className="text-soft hover:text-accent"
          >
            Findings
          </Link>
        </p>
        <h1 className="font-serif text-[22px] font-semibold">What if one thing fails</h1>
        <p className="mt-1 max-w-prose text-soft">
          Each hub, link, attachment and firewall that is up, failing by itself: which expectations break, and
          which flows change.
        </p>
        {of && (
          <p className="mt-2">
            Only {of.replace(":", " ")}.{" "}
            <Link to={{ search: all.toString() }} className="text-accent underline">
              Show all
            </Link>
          </p>
        )}
        {failures.error && (
          <p role="alert" className="mt-3 text-denied">
            {problemText(failures.error)}
          </p>
        )}
        {failures.isPending && <p className="mt-4 text-soft">Computing…</p>}
        {failures.data && <List found={failures.data} />}
      </section>
      <Panel />
    </div>
  );
}

function List({ found }: { found: Schemas["Failures"] }) {
  if (found.looked === 0)
    return <p className="mt-4 text-soft">There is nothing here that is up and could fail.</p>;
  return (
    <>
      <p className="mt-4 text-soft">
        {counted(found.looked, "failure")} computed;{" "}
        {found.quiet === 0 ? "each changes" : `${found.quiet} change`}{" "}
        {found.quiet === 0 ? "some flow that passes." : "no flow that passes."}
      </p>
      {found.list.map((f) => (
        <Failure key={`${f.thing.kind} ${f.thing.name}`} f={f} />
      ))}
    </>
  );
}

function Failure({ f }: { f: Schemas["Failure"] }) {
  return (
    <section
      aria-label={`${f.thing.kind} ${f.thing.name}`}
      className="mt-5 max-w-4xl border-t border-line pt-2"
    >
      <h2 className="flex items-baseline gap-3">
        <span>
          <span className="text-soft">{capital(f.thing.kind)} </span>
          <span className="font-semibold">{f.thing.name}</span>
        </span>
        {f.breaks.length > 0 && (
          <span className="text-[13px] text-denied">breaks {counted(f.breaks.length, "expectation")}</span>
        )}
        <span className="text-[13px] text-soft">
          {counted(f.turns.length + f.more, "set of flows changes", "sets of flows change")}
        </span>
      </h2>
      <ul className="pt-1 text-[13px]">
        {f.breaks.map((b) => (
          <li key={b.expectation} className="flex items-baseline gap-3 py-0.5">
            <span className="w-24 flex-none text-denied">breaks</span>
            <span className="min-w-0 flex-1">
              <Expectation name={b.expectation} />
            </span>
            <Ask witness={b.witness} />
          </li>
        ))}
        {f.turns.map((t) => (
          <li
            key={`${t.from} ${t.to} ${t.before} ${t.after}`}
            className="flex items-baseline gap-3 py-0.5"
            title={t.pairs && `${t.pairs} pairs of addresses`}
          >
            <span className="flex w-24 flex-none items-center gap-2">
              <RoadMark mark={{ outcome: t.before, contested: false }} size={12} />
              <ArrowRight size={11} className="text-soft" />
              <RoadMark mark={{ outcome: t.after, contested: false }} size={12} />
            </span>
            <span className="min-w-0 flex-1">
              {t.from} → {t.to} <span className="font-mono text-soft">{serviceWords(t.services)}</span>
            </span>
            <Ask witness={t.witness} />
          </li>
        ))}
      </ul>
      {f.more > 0 && <p className="text-[13px] text-soft">and {counted(f.more, "set")} more</p>}
    </section>
  );
}

function Expectation({ name }: { name: string }) {
  const { search } = useLocation();
  return (
    <Link
      to={{ pathname: `/rules/expectation/${name}`, search }}
      className="font-semibold hover:text-accent hover:underline"
    >
      {name}
    </Link>
  );
}

/** A flow that changes, as it is now. */
function Ask({ witness }: { witness: Schemas["Witness"] }) {
  const { change } = useUrlState();
  const ask = { from: witness.from, to: witness.to, on: witness.on, row: null, col: null, at: null };
  return (
    <button
      className="min-h-6 flex-none text-soft hover:text-accent hover:underline"
      onClick={() => change(ask)}
    >
      {witness.source} → {witness.destination}
    </button>
  );
}
