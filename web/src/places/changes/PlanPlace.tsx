import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import type { Schemas } from "../../api/client";
import {
  applyingQuery,
  beginPlan,
  mostWrites,
  planQuery,
  roundsQuery,
  sendRound,
  steerPlan,
} from "../../api/plans";
import type { Plan, PlanOrder, Wanted } from "../../api/plans";
import { estateQuery } from "../../api/queries";
import { meQuery } from "../../api/people";
import { forceWords } from "../../frame/ForceChip";
import { problemText } from "../../parts/ConsequenceView";
import { Button } from "../../parts/fields";
import { Pick } from "../../parts/Pick";
import { capital, counted, moment } from "../../parts/wording";
import { Tabs } from "./ChangesPlace";
import { PlanView } from "./PlanView";
import { RoundView } from "./RoundView";

export const planStates: Record<Plan["state"], string> = {
  "": "preview",
  asks: "waits for a person",
  running: "under way",
  paused: "paused",
  stopped: "stopped",
  stuck: "partly applied",
  done: "in force",
  superseded: "superseded",
};

const causes: Record<Plan["cause"], string> = {
  edit: "edit",
  sync: "sync",
  router: "routes learned",
  drift: "drift put right",
};

/** What is in force, what is under way, and the last plans. */
export function PlansPlace() {
  const applying = useQuery(applyingQuery);
  const rounds = useQuery(roundsQuery);
  const me = useQuery(meQuery);
  const a = applying.data;
  return (
    <section aria-label="In force" className="h-full overflow-y-auto px-7 pt-4 pb-8">
      <Tabs />
      {applying.error && <p className="pt-4 text-denied">{problemText(applying.error)}</p>}
      {a && (
        <>
          <h1 className="pt-4 font-serif text-[22px] font-semibold">
            Revision {a.revision}: {forceWords(a)}
          </h1>
          {a.why && <p className="pt-1 text-denied">{capital(a.why)}.</p>}
          {a.behind.map((b) => (
            <p key={b.target} className="pt-1">
              <strong>{b.target}</strong> does not hold yet: {b.documents.slice(0, 4).join(", ")}
              {b.documents.length + b.more > 4 && ` and ${b.documents.length + b.more - 4} more`}.
              {b.why && (
                <span className="text-denied">
                  {" "}
                  {capital(b.why)}
                  {b.since && `, last tried ${moment(b.since)}`}.
                </span>
              )}
            </p>
          ))}
          <h2 className="pt-6 pb-1 font-serif text-[17px] font-semibold">Plans</h2>
          {a.plans.length === 0 && <p>Nothing has been written yet.</p>}
          {a.plans.length > 0 && <PlanTable plans={a.plans} />}
        </>
      )}
      <h2 className="pt-6 pb-1 font-serif text-[17px] font-semibold">Rounds of test packets</h2>
      <p className="max-w-prose pb-1 text-soft">
        A round sends one packet of each class of flows, and compares what comes of it with what this estate
        says.
      </p>
      {me.data?.roles.includes("engineer") && <SendRound plan={0} />}
      {rounds.data?.rounds.map((r) => (
        <RoundView key={r.id} r={r} />
      ))}
    </section>
  );
}

function PlanTable({ plans }: { plans: Schemas["PlanSummary"][] }) {
  return (
    <table className="w-full max-w-[64rem] text-left">
      <thead className="text-[13px] text-soft">
        <tr className="border-b border-line">
          <th className="py-1 pr-4 font-normal">Plan</th>
          <th className="pr-4 font-normal">Leads to</th>
          <th className="pr-4 font-normal">Because of</th>
          <th className="pr-4 font-normal">State</th>
          <th className="font-normal">Made</th>
        </tr>
      </thead>
      <tbody>
        {plans.map((p) => (
          <tr key={p.id} className="border-b border-line/60">
            <td className="py-1.5 pr-4">
              <Link to={`/changes/plans/${p.id}`} className="font-semibold text-accent hover:underline">
                Plan {p.id}
              </Link>
            </td>
            <td className="pr-4">revision {p.revision}</td>
            <td className="pr-4">
              {causes[p.cause]}
              {p.actor && <span className="text-soft"> by {p.actor}</span>}
            </td>
            <td className="pr-4">{planStates[p.state]}</td>
            <td className="whitespace-nowrap text-soft">{moment(p.made)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** One plan: how far it is, and what can be done about it. */
export function PlanPlace() {
  const id = Number(useParams().id);
  const [wanted, setWanted] = useState<Wanted>({ most: mostWrites, target: "" });
  const plan = useQuery(planQuery(id, wanted));
  const me = useQuery(meQuery);
  return (
    <section aria-label="Plan" className="h-full overflow-y-auto px-7 pt-4 pb-8">
      <Tabs />
      {plan.error && <p className="pt-4 text-denied">{problemText(plan.error)}</p>}
      {plan.data && (
        <>
          <Head p={plan.data} operates={me.data?.roles.includes("operator") ?? false} />
          <PlanView plan={plan.data} live wanted={wanted} onWanted={setWanted} />
          <Rounds plan={plan.data} />
        </>
      )}
    </section>
  );
}

const orders: Record<PlanOrder, string> = {
  start: "Start",
  pause: "Pause",
  resume: "Resume",
  stop: "Stop",
  retry: "Try again now",
};

/** What a person may tell a plan. */
function ordersOf(p: Plan): PlanOrder[] {
  switch (p.state) {
    case "asks":
      return ["start", "stop"];
    case "running":
      return p.writes.some((w) => w.state === "retrying") ? ["retry", "pause", "stop"] : ["pause", "stop"];
    case "paused":
      return ["resume", "stop"];
    case "stopped":
      return ["resume"];
    case "stuck":
      return ["retry"];
    default:
      return [];
  }
}

function Head({ p, operates }: { p: Plan; operates: boolean }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const again = () => queries.invalidateQueries({ queryKey: ["applying"] });
  const steer = useMutation({ mutationFn: (o: PlanOrder) => steerPlan(p.id, o), onSettled: again });
  const anew = useMutation({
    mutationFn: () => beginPlan(false),
    onSuccess: (next) => navigate(next ? `/changes/plans/${next.id}` : "/changes/plans"),
    onSettled: again,
  });
  const done = p.targets.reduce((n, t) => n + t.done, 0);
  const writes = p.targets.reduce((n, t) => n + t.writes, 0);
  const error = steer.error ?? anew.error;
  const open = p.state !== "done" && p.state !== "superseded";
  return (
    <header className="pt-4">
      <div className="flex flex-wrap items-center gap-3">
        <h1 className="font-serif text-[22px] font-semibold">
          Plan {p.id}, for revision {p.revision}
        </h1>
        <span className="rounded border border-line px-2 text-[13px]" data-testid="plan-state">
          {planStates[p.state]}
        </span>
        <span className="flex-1" />
        {operates &&
          ordersOf(p).map((o) => (
            <Button
              key={o}
              main={o === "start" || o === "resume" || o === "retry"}
              disabled={steer.isPending}
              onClick={() => steer.mutate(o)}
            >
              {orders[o]}
            </Button>
          ))}
        {operates && open && p.state !== "running" && (
          <Button disabled={anew.isPending} onClick={() => anew.mutate()}>
            Plan again
          </Button>
        )}
      </div>
      <p className="pt-1 text-soft">
        {capital(causes[p.cause])}
        {p.actor && ` by ${p.actor}`}, {moment(p.made)}. {done} of {counted(writes, "write")}{" "}
        {done === 1 ? "is" : "are"} in force.
        {p.ended && ` It ended ${moment(p.ended)}.`}
      </p>
      {p.why && <p className={open ? "pt-1 text-denied" : "pt-1"}>{capital(p.why)}.</p>}
      {error && (
        <p role="alert" className="pt-1 text-denied">
          {problemText(error)}
        </p>
      )}
      <div aria-hidden className="mt-3 h-1.5 max-w-[40rem] rounded bg-line">
        <div
          className="h-full rounded bg-accent transition-[width]"
          style={{ width: `${writes ? (100 * done) / writes : 100}%` }}
        />
      </div>
    </header>
  );
}

function Rounds({ plan }: { plan: Plan }) {
  const rounds = useQuery(roundsQuery);
  const me = useQuery(meQuery);
  const mine = rounds.data?.rounds.filter((r) => r.plan === plan.id) ?? [];
  return (
    <section aria-label="Test packets" className="pt-6">
      <h2 className="pb-1 font-serif text-[17px] font-semibold">Test packets</h2>
      {me.data?.roles.includes("engineer") && <SendRound plan={plan.id} />}
      {mine.map((r) => (
        <RoundView key={r.id} r={r} />
      ))}
    </section>
  );
}

function SendRound({ plan }: { plan: number }) {
  const queries = useQueryClient();
  const segments = useQuery(estateQuery).data?.segments ?? [];
  const [segment, setSegment] = useState("");
  const send = useMutation({
    mutationFn: () => sendRound(plan, segment),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["rounds"] }),
  });
  return (
    <p className="flex items-center gap-2 py-1">
      <Pick
        label="Flows of the round"
        value={segment}
        options={[["", "all flows"], ...segments.map((s) => [s.name, `flows of ${s.name}`] as const)]}
        className="rounded-md bg-sheet px-2 leading-7"
        onChange={setSegment}
      />
      <Button disabled={send.isPending} onClick={() => send.mutate()}>
        {send.isPending ? "Sending packets…" : "Send a round of packets"}
      </Button>
      {send.error && (
        <span role="alert" className="pl-3 text-denied">
          {problemText(send.error)}
        </span>
      )}
    </p>
  );
}
