import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useLocation, useParams } from "react-router";
import { targetsQuery } from "../../api/targets";
import type { Target } from "../../api/targets";
import type { Schemas } from "../../api/client";
import { where } from "../../frame/where";
import { problemText } from "../../parts/ConsequenceView";
import { counted, grouped } from "../../parts/wording";
import { ConnectHubs } from "./ConnectHubs";
import { DriftView } from "./DriftView";
import { ObservedView } from "./ObservedView";
import { HeldView } from "./HeldView";
import { ProofView, ProofLine } from "./ProofView";
import { TargetList } from "./TargetList";
import { UsesView } from "./UsesView";

/** What hubs, pools, clouds and premises have to hold, what each rule is for, and its proof. */
export function TargetsPlace() {
  const { kind, name } = useParams();
  const { search } = useLocation();
  const targets = useQuery(targetsQuery);
  const [ofKind, ofName] = (new URLSearchParams(search).get("for") ?? "").split("/");
  if (targets.error) {
    return (
      <p role="alert" className="p-6 text-denied">
        {problemText(targets.error)}
      </p>
    );
  }
  if (!targets.data) return null;
  return (
    <div className="flex h-full">
      <TargetList targets={targets.data.targets} />
      <section aria-label="Target" className="min-w-0 flex-1 overflow-y-auto px-7 pt-4 pb-8">
        {kind === "proof" ? (
          <ProofView />
        ) : kind === "drift" ? (
          <DriftView />
        ) : kind === "observed" ? (
          <ObservedView />
        ) : kind && name ? (
          <HeldView kind={kind} name={name} />
        ) : ofKind && ofName ? (
          <UsesView kind={ofKind} name={ofName} />
        ) : (
          <Summary targets={targets.data} />
        )}
      </section>
    </div>
  );
}

const providers = [
  ["cirra", "Cirra"],
  ["velum", "Velum"],
  ["stratok", "Stratok"],
  ["premises", "Premises"],
] as const;

/** All targets at a glance: is it proven, does it fit, how many rules are there. */
function Summary({ targets }: { targets: Schemas["Targets"] }) {
  const { search } = useLocation();
  const rows: [string, Target[]][] = [
    ["Match lists of segments, at every hub", targets.targets.filter((t) => t.kind === "segment")],
    ["Hubs: routes, links, exits", targets.targets.filter((t) => t.kind === "hub")],
    ["Pools: rulebooks", targets.targets.filter((t) => t.kind === "pool")],
    ...providers.map(([key, called]): [string, Target[]] => [
      `Networks of ${called}`,
      targets.targets.filter((t) => t.kind === "network" && t.provider === key),
    ]),
    [
      "Networks without lists",
      targets.targets.filter((t) => t.kind === "network" && !providers.some(([key]) => key === t.provider)),
    ],
  ];
  return (
    <>
      <h1 className="font-serif text-[22px] font-semibold">Targets</h1>
      <p className="max-w-prose pt-1 text-soft">
        What hubs, firewall pools, clouds and premises have to hold so that they do what this estate says.
        What connected targets hold follows the applied estate.
      </p>
      <ProofLine />
      <ConnectHubs />
      <p className="pt-1">
        <Link to={{ pathname: "/targets/drift", search }} className="text-accent hover:underline">
          Compare with what the accounts hold now
        </Link>
      </p>
      {targets.refused.length > 0 && <RefusedList refused={targets.refused} />}
      <table className="mt-5 text-left">
        <thead>
          <tr className="border-b border-line text-[13px] text-soft">
            <th className="py-1.5 pr-8 font-normal">What</th>
            <th className="pr-8 text-right font-normal">Targets</th>
            <th className="pr-8 text-right font-normal">Rules</th>
            <th className="text-right font-normal">At least</th>
          </tr>
        </thead>
        <tbody>
          {rows
            .filter(([, list]) => list.length > 0)
            .map(([called, list]) => (
              <tr key={called} className="border-b border-line">
                <td className="py-1.5 pr-8">{called}</td>
                <td className="pr-8 text-right tabular-nums">{list.length}</td>
                <td className="pr-8 text-right tabular-nums">{grouped(sum(list, (t) => t.rules))}</td>
                <td className="text-right tabular-nums">{grouped(sum(list, (t) => t.bound))}</td>
              </tr>
            ))}
        </tbody>
      </table>
      <p className="flex gap-4 pt-4">
        <span className="text-soft">Download</span>
        {exports.map(([as, called]) => (
          <a key={as} href={`/api/export?${exported(as)}`} className="text-accent hover:underline" download>
            {called}
          </a>
        ))}
      </p>
      <p className="max-w-prose pt-2 text-[13px] text-soft">
        At least: how few rules such lists could have, as far as that is known.
      </p>
    </>
  );
}

const exports = [
  ["native", "native rules as text"],
  ["acl", "access lists (RFC 8519)"],
  ["topology", "topology (RFC 8345)"],
] as const;

/** What is asked for: of what one looks at, in a form. */
function exported(as: string): string {
  const w = where();
  const params = new URLSearchParams({ as });
  if (w.kind === "draft") params.set("draft", String(w.id));
  if (w.kind === "revision") params.set("at", String(w.number));
  return params.toString();
}

const sum = (list: Target[], of: (t: Target) => number) => list.reduce((n, t) => n + of(t), 0);

/** How many networks are listed before one asks for all. */
const few = 6;

/** What does not fit, network by network: the longest list of each, and how many others there are. */
function RefusedList({ refused }: { refused: Schemas["NativeRefusal"][] }) {
  const [all, setAll] = useState(false);
  const byNetwork = new Map<string, Schemas["NativeRefusal"][]>();
  for (const r of refused) byNetwork.set(r.network, [...(byNetwork.get(r.network) ?? []), r]);
  const networks = [...byNetwork.values()];
  const shown = all ? networks : networks.slice(0, few);
  return (
    <div role="alert" className="mt-4 rounded border border-denied px-4 py-3">
      <p className="font-semibold text-denied">
        {counted(refused.length, "list")} {refused.length === 1 ? "does" : "do"} not fit. Until this is
        corrected, {networks.length === 1 ? "its network is" : "their networks are"} left as{" "}
        {networks.length === 1 ? "it is" : "they are"}.
      </p>
      <ul className="list-disc pt-1 pl-5">
        {shown.map((list) => {
          const longest = list.reduce((a, b) => (b.count > a.count ? b : a));
          return (
            <li key={longest.network}>
              {longest.words}
              {list.length > 1 && (
                <span className="text-soft">
                  {" "}
                  (and {counted(list.length - 1, "other list")} of this network)
                </span>
              )}
            </li>
          );
        })}
      </ul>
      {shown.length < networks.length && (
        <button onClick={() => setAll(true)} className="mt-1 min-h-6 text-accent underline">
          Show all {networks.length} networks
        </button>
      )}
    </div>
  );
}
