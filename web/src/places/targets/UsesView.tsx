import { useQuery } from "@tanstack/react-query";
import { Link, useLocation } from "react-router";
import { usesQuery } from "../../api/targets";
import { problemText } from "../../parts/ConsequenceView";
import { ThingLink } from "../../parts/ThingLink";
import { counted } from "../../parts/wording";
import { Lines } from "./Lines";

/** The native rules that a policy, share, guardrail or rulebook becomes, target by target. */
export function UsesView({ kind, name }: { kind: string; name: string }) {
  const uses = useQuery(usesQuery(kind, name));
  const { search } = useLocation();
  const params = new URLSearchParams(search);
  params.delete("for");
  if (uses.error) {
    return (
      <p role="alert" className="text-denied">
        {problemText(uses.error)}
      </p>
    );
  }
  if (!uses.data) return null;
  const sets = new Map(uses.data.sets.map((s) => [s.name, s.prefixes]));
  const lines = uses.data.uses.reduce((n, u) => n + u.lines.length, 0);
  return (
    <>
      <header className="flex items-baseline gap-3">
        <h1 className="font-serif text-[22px] font-semibold">What {name} becomes</h1>
        <span className="text-soft">
          {counted(lines, "native rule")} in {counted(uses.data.uses.length, "list")}
        </span>
        <span className="ml-auto">
          <ThingLink thing={{ kind, name }} />
        </span>
      </header>
      {uses.data.uses.length === 0 && (
        <p className="max-w-prose pt-3 text-soft">
          No native rule allows anything because of it: it denies, it is switched off, or nothing that it
          allows exists. What is denied needs no rule of its own.
        </p>
      )}
      {uses.data.uses.map((u) => (
        <section key={`${u.target.kind} ${u.target.name} ${u.on}`} className="pt-5">
          <h2 className="border-b border-line pb-1 font-semibold">
            <Link
              to={{ pathname: `/targets/${u.target.kind}/${u.target.name}`, search: params.toString() }}
              className="hover:text-accent hover:underline"
            >
              {u.target.kind === "segment" ? `Every hub, segment ${u.target.name}` : u.target.name}
            </Link>
            <span className="pl-3 text-[13px] font-normal text-soft">
              {u.target.provider}
              {u.on && ` ${u.on}`}
            </span>
          </h2>
          <Lines lines={u.lines} sets={sets} />
        </section>
      ))}
    </>
  );
}
