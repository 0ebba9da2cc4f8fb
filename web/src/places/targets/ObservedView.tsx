import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useLocation } from "react-router";
import { useMay } from "../../api/people";
import { everything } from "../../api/queries";
import { observedQuery, propose } from "../../api/targets";
import type { Schemas } from "../../api/client";
import { lookAt, useWhere } from "../../frame/where";
import { problemText } from "../../parts/ConsequenceView";
import { Button } from "../../parts/fields";
import { Sentence } from "../../parts/Sentence";
import { counted, moment, serviceWords } from "../../parts/wording";
import { Folded } from "./Lines";

/** What the lists of accounts that are observed only do, beside what policies intend. */
export function ObservedView() {
  const observed = useQuery(observedQuery([]));
  const w = useWhere();
  const writes = useMay("engineer");
  const queries = useQueryClient();
  const begin = useMutation({
    mutationFn: propose,
    onSuccess: async (p) => {
      await queries.invalidateQueries({ queryKey: ["drafts"] });
      lookAt({ kind: "draft", id: p.draft });
      await queries.invalidateQueries({ queryKey: everything });
    },
  });
  const error = begin.error ?? observed.error;
  const o = observed.data;
  return (
    <>
      <header className="flex items-center gap-3">
        <h1 className="flex-1 font-serif text-[22px] font-semibold">Observed accounts</h1>
        {o && w.kind !== "revision" && o.flows.length > 0 && writes && (
          <Button main disabled={begin.isPending} onClick={() => begin.mutate()}>
            {begin.isPending ? "Writing…" : "Propose rules"}
          </Button>
        )}
        {w.kind === "draft" && (
          <Link to={`/changes/${w.id}`} className="text-accent hover:underline">
            Review the draft
          </Link>
        )}
        <Button onClick={() => void observed.refetch()} disabled={observed.isFetching}>
          {observed.isFetching ? "Reading the accounts…" : "Compare again"}
        </Button>
      </header>
      <p className="max-w-prose pt-1 text-soft">
        Bivium reads the lists of these accounts and never writes them. What they do to each flow inside a
        segment, and from it to the internet, is compared with what policies intend.
      </p>
      {error && (
        <p role="alert" className="pt-3 text-denied">
          {problemText(error)}
        </p>
      )}
      {o && <Found o={o} draft={w.kind === "draft"} />}
    </>
  );
}

function Found({ o, draft }: { o: Schemas["Observed"]; draft: boolean }) {
  if (o.accounts.length === 0) {
    return (
      <p className="pt-4">
        No account is observed only. On the sheet of an account in{" "}
        <Link to="/estate" className="text-accent hover:underline">
          Estate
        </Link>
        , choose <em>Observe only</em>.
      </p>
    );
  }
  const more = o.flows.filter((f) => f.passes);
  const less = o.flows.filter((f) => !f.passes);
  return (
    <>
      <ul className="pt-4">
        {o.accounts.map((a) => (
          <li key={a.account} className="flex items-baseline gap-3 border-b border-line py-1.5">
            <span className="font-semibold">{a.account}</span>
            <span className="text-[13px] text-soft">
              {a.provider}, read {moment(a.at)}
              {a.problem === "" && `, ${counted(a.lists, "list")}, ${counted(a.rules, "rule")}`}, networks{" "}
              {a.networks.join(", ")}
            </span>
            {a.problem && <span className="text-denied">Not read: {a.problem}</span>}
          </li>
        ))}
      </ul>
      <p className="pt-4 font-semibold">{verdictOf(o, draft)}</p>
      <Part title="Lists pass, policies deny" flows={more} color="text-blocked" />
      <Part title="Lists stop, policies allow or inspect" flows={less} color="text-denied" />
    </>
  );
}

function verdictOf(o: Schemas["Observed"], draft: boolean): string {
  if (o.accounts.every((a) => a.problem !== "")) return "Nothing is known: no account could be read.";
  if (o.incomplete) return "A segment was not compared: its lists tell too many addresses apart.";
  if (o.flows.length > 0) {
    return `${counted(o.flows.length, "set of flows differs", "sets of flows differ")} from what policies intend.`;
  }
  return draft
    ? "Proven for all flows: with this draft, policies intend exactly what the lists do."
    : "Proven for all flows: policies intend exactly what the lists do.";
}

function Part({ title, flows, color }: { title: string; flows: Schemas["ObservedFlows"][]; color: string }) {
  if (flows.length === 0) return null;
  return (
    <section aria-label={title} className="pt-4">
      <h2 className={`font-semibold ${color}`}>{title}</h2>
      <table className="mt-1 w-full text-left">
        <thead>
          <tr className="border-b border-line text-[13px] text-soft">
            <th className="py-1 pr-4 font-normal">Segment</th>
            <th className="pr-4 font-normal">From</th>
            <th className="pr-4 font-normal">To</th>
            <th className="pr-4 font-normal">Services</th>
            <th className="font-normal">For example, and what this estate says of it</th>
          </tr>
        </thead>
        <tbody>
          {flows.map((f, i) => (
            <tr key={i} className="border-b border-line align-top">
              <td className="py-1.5 pr-4 text-soft">{f.segment}</td>
              <td className="py-1.5 pr-4">
                <Side side={f.from} />
              </td>
              <td className="py-1.5 pr-4">
                <Side side={f.to} />
              </td>
              <td className="py-1.5 pr-4">{serviceWords(f.services)}</td>
              <td className="py-1.5 text-[13px]">
                <Example witness={f.witness} />
                <span className="block text-soft">
                  <Sentence tokens={f.says} />
                </span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Side({ side }: { side: Schemas["ObservedSide"] }) {
  return (
    <>
      <span>{side.name}</span>
      {side.parts.length > 0 && (
        <span className="block text-[13px] text-soft">
          <Folded words={side.parts} most={2} one="part" />
        </span>
      )}
    </>
  );
}

function Example({ witness }: { witness: Schemas["Witness"] }) {
  const { search } = useLocation();
  const params = new URLSearchParams(search);
  params.set("from", witness.from);
  params.set("to", witness.to);
  params.set("on", witness.on);
  params.set("road", "shown");
  return (
    <Link className="text-accent hover:underline" to={`/board?${params}`}>
      {witness.source} to {witness.destination} on {witness.on}
    </Link>
  );
}
