import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useLocation, useNavigate } from "react-router";
import { meQuery } from "../../api/people";
import { beginPlan } from "../../api/plans";
import { driftQuery, takeOver } from "../../api/targets";
import type { Schemas } from "../../api/client";
import { lookAt, useWhere } from "../../frame/where";
import { problemText } from "../../parts/ConsequenceView";
import { Button } from "../../parts/fields";
import { counted, moment } from "../../parts/wording";
import { Difference } from "./ProofView";

/** How what accounts hold now differs from what they have to hold: flows first, then rule by rule. */
export function DriftView() {
  const drift = useQuery(driftQuery);
  const me = useQuery(meQuery);
  const w = useWhere();
  const queries = useQueryClient();
  const navigate = useNavigate();
  const writes = me.data?.roles.includes("engineer");
  const over = useMutation({
    mutationFn: takeOver,
    onSuccess: async (d) => {
      await queries.invalidateQueries({ queryKey: ["drafts"] });
      lookAt({ kind: "draft", id: d.id });
      void navigate(`/changes/${d.id}`);
    },
  });
  const right = useMutation({
    mutationFn: () => beginPlan(true),
    onSuccess: (plan) => {
      queries.removeQueries({ queryKey: driftQuery.queryKey });
      return navigate(plan ? `/changes/plans/${plan.id}` : "/changes/plans");
    },
    onSettled: () => queries.invalidateQueries({ queryKey: ["applying"] }),
  });
  const failed = right.error ?? over.error;
  return (
    <>
      <header className="flex items-center gap-3">
        <h1 className="flex-1 font-serif text-[22px] font-semibold">Drift</h1>
        {drift.data && w.kind === "applied" && takeable(drift.data) && writes && (
          <Button disabled={over.isPending} onClick={() => over.mutate()}>
            {over.isPending ? "Reading…" : "Take over into a draft"}
          </Button>
        )}
        {drift.data && w.kind === "applied" && differs(drift.data) && me.data?.roles.includes("operator") && (
          <Button main disabled={right.isPending} onClick={() => right.mutate()}>
            {right.isPending ? "Planning…" : "Put right"}
          </Button>
        )}
        <Button onClick={() => void drift.refetch()} disabled={drift.isFetching}>
          {drift.isFetching ? "Reading the accounts…" : "Compare again"}
        </Button>
      </header>
      <p className="max-w-prose pt-1 text-soft">
        What connected accounts hold now (lists, routes and peerings) is read into flows, and compared with
        what this estate says.
      </p>
      {failed && (
        <p role="alert" className="pt-3 text-denied">
          {problemText(failed)}
        </p>
      )}
      {drift.error && (
        <p role="alert" className="pt-3 text-denied">
          {problemText(drift.error)}
        </p>
      )}
      {drift.data && <Found d={drift.data} />}
    </>
  );
}

/** There is something that an edit can say: flows, or routes and peerings. */
const takeable = (d: Schemas["Drift"]) =>
  d.differences.length > 0 || d.accounts.some((a) => a.changed.some((l) => l.on === routeTable));

/** What a route table with its network's peerings is called among lists. */
const routeTable = "route table";

const differs = (d: Schemas["Drift"]) =>
  d.differences.length > 0 || d.accounts.some((a) => a.changed.length > 0);

function Found({ d }: { d: Schemas["Drift"] }) {
  if (d.accounts.length === 0) {
    return (
      <p className="pt-4">
        No account is connected.{" "}
        <Link to="/estate" className="text-accent hover:underline">
          Connect one
        </Link>{" "}
        to see what it holds.
      </p>
    );
  }
  const changed = d.accounts.reduce((n, a) => n + a.changed.length, 0);
  return (
    <>
      <h2 className="pt-5 font-semibold">
        {d.differences.length === 0
          ? "No flow has another outcome than intended"
          : `${counted(d.differences.length, "set of flows has", "sets of flows have")} another outcome than intended`}
        {d.incomplete && ", and there are more"}
      </h2>
      {d.differences.map((x, i) => (
        <Difference key={i} d={x} />
      ))}
      <h2 className="pt-6 pb-1 font-semibold">
        {changed === 0
          ? "No list or route table differs from what is intended"
          : `${counted(changed, "list or route table differs", "lists or route tables differ")} from what is intended`}
      </h2>
      {d.accounts.map((a) => (
        <Account key={a.account} a={a} />
      ))}
    </>
  );
}

function Account({ a }: { a: Schemas["AccountDrift"] }) {
  return (
    <section aria-label={a.account} className="border-t border-line py-2">
      <h3 className="flex items-baseline gap-3">
        <span className="font-semibold">{a.provider === "hubs" ? "Hubs and firewalls" : a.account}</span>
        <span className="text-[13px] text-soft">
          {a.provider !== a.account && `${a.provider}, `}read {moment(a.at)}
          {a.problem === "" && `, ${counted(a.lists, "list")}`}
        </span>
      </h3>
      {a.problem && (
        <p className="text-denied">Not read: {a.problem}. It is assumed to hold what is intended.</p>
      )}
      {!a.problem && a.changed.length === 0 && <p className="text-soft">No differences.</p>}
      {a.changed.map((l) => (
        <List key={`${l.network} ${l.on}`} l={l} account={a.account} />
      ))}
    </section>
  );
}

function List({ l, account }: { l: Schemas["ListDrift"]; account: string }) {
  const { search } = useLocation();
  return (
    <div className="pt-1.5">
      <p className="text-[13px]">
        {l.network === account || l.network === "" ? (
          <span className="text-soft">{l.on}</span>
        ) : (
          <>
            <Link
              to={{ pathname: `/targets/network/${l.network}`, search }}
              className="hover:text-accent hover:underline"
            >
              {l.network}
            </Link>{" "}
            <span className="text-soft">{l.on}</span>
          </>
        )}
      </p>
      <table className="text-[13px]">
        <tbody>
          {l.added.map((text, i) => (
            <tr key={text}>
              <td className="w-24 py-0.5 pr-3 align-top text-blocked">only there</td>
              <td className="py-0.5 pr-4">{text}</td>
              <td className="py-0.5 whitespace-nowrap text-soft">{l.by[i] && `by ${l.by[i]}`}</td>
            </tr>
          ))}
          {l.missing.map((text) => (
            <tr key={text}>
              <td className="w-24 py-0.5 pr-3 align-top text-denied">missing</td>
              <td className="py-0.5 pr-4">{text}</td>
              <td />
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
