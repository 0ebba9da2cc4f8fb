import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import {
  answerQuery,
  everything,
  lanesQuery,
  roadQuery,
  sessionsQuery,
  statesQuery,
} from "../../api/queries";
import { isAsked, questionOf, useUrlState } from "../../frame/urlState";
import { Panel } from "../../road/Panel";
import { courseOf } from "./plane/course";
import { details, fitting, layout } from "./plane/layout";
import type { Detail, At } from "./plane/layout";
import type { Estate, State, Told } from "./estate";
import { Plane } from "./plane/Plane";
import type { Jumper } from "./plane/Plane";
import { GroupSheet } from "./sheets/GroupSheet";
import { HubSheet } from "./sheets/HubSheet";
import { Key } from "./plane/Key";
import { NetworkSheet } from "./sheets/NetworkSheet";
import { NewSheet } from "./sheets/NewSheet";
import { RoutesSheet } from "./sheets/RoutesSheet";
import { SharesSheet } from "./sheets/SharesSheet";
import { HealthBar } from "./HealthBar";
import { Tray } from "./Tray";

type Session = Schemas["SessionView"];

/** Lanes: how the estate hangs together. */
export function LanesPlace() {
  const lanes = useQuery(lanesQuery);
  const states = useQuery(statesQuery);
  const sessions = useQuery(sessionsQuery);
  const queries = useQueryClient();
  const stale = !!lanes.data && !!sessions.data && sessions.data.revision > lanes.data.revision;
  useEffect(() => {
    if (stale) void queries.invalidateQueries({ queryKey: everything }); // routers announced something
  }, [stale, queries]);
  const told: Told = useMemo(
    () =>
      new Map(
        states.data?.states.map((s) => [
          `${s.kind}:${s.name}`,
          { state: s.state as State, why: s.why ?? "" },
        ]),
      ),
    [states.data],
  );
  return (
    <div className="relative flex h-full">
      <section aria-label="Lanes" className="flex min-w-0 flex-1 flex-col">
        {lanes.error && <p className="px-5 py-3 text-denied">{lanes.error.message}</p>}
        {lanes.data && <Whole estate={lanes.data} told={told} sessions={sessions.data?.sessions ?? []} />}
      </section>
      <Side estate={lanes.data} told={told} />
    </div>
  );
}

/** What is beside the plane: what was picked there, or the road of the question. */
function Side({ estate, told }: { estate: Estate | undefined; told: Told }) {
  const { params } = useUrlState();
  const [net, lane, hub] = [params.get("net"), params.get("lane"), params.get("hub")];
  const network = estate?.networks.find((n) => n.name === net);
  if (estate && network) {
    const dropped = `${params.get("into")} ${params.get("onto")}`;
    const now = JSON.stringify([network.subnets, network.at]);
    return <NetworkSheet key={`${net} ${dropped} ${now}`} estate={estate} told={told} network={network} />;
  }
  const shares = params.get("shares");
  if (estate && shares) return <SharesSheet key={shares} estate={estate} of={shares.split(" ")} />;
  if (estate && params.get("fresh")) return <NewSheet estate={estate} />;
  if (estate && params.get("many")) return <GroupSheet estate={estate} />;
  if (lane && hub) {
    const own = estate?.shares.filter((s) => s.owner === lane || s.guest === lane) ?? [];
    return <RoutesSheet key={`${lane} ${hub}`} segment={lane} hub={hub} shares={own.length} />;
  }
  if (estate && hub) return <HubSheet key={hub} estate={estate} told={told} hub={hub} />;
  if (params.get("road") === "shown") return <Panel />;
  return null;
}

function Whole({ estate, told, sessions }: { estate: Estate; told: Told; sessions: Session[] }) {
  const { params, change } = useUrlState();
  const jumper = useRef<Jumper>(null);
  const [width, setWidth] = useState(0);
  const wanted = params.get("detail") as Detail | null;
  const detail = wanted && details.includes(wanted) ? wanted : fitting(estate, width || 1240);
  const focus = params.get("hub") ?? "";
  const sharing = (params.get("shares") ?? "").split(" ")[0] ?? "";
  const plan = useMemo(
    () => layout(estate, detail, told, width, focus, sharing),
    [estate, detail, told, width, focus, sharing],
  );

  const asked = questionOf(params);
  const answer = useQuery({ ...answerQuery(asked), enabled: isAsked(asked) });
  // Of an answer that depends, the flow is drawn that is picked in the road, or the first.
  const [l, k] = (params.get("at") ?? "0.0").split(".").map(Number);
  const lines = answer.data?.lines ?? [];
  const several = lines.length > 1 || (lines[0]?.parts.length ?? 0) > 1;
  const witness = (lines[l ?? 0]?.parts[k ?? 0] ?? lines[0]?.parts[0])?.witness;
  const none = { from: "", to: "", on: "", sport: 0, publication: "", source: "", destination: "" };
  const road = useQuery({ ...roadQuery(witness ?? none), enabled: several && witness !== undefined });
  const trace = several ? road.data?.trace : answer.data?.trace;
  const course = useMemo(
    () => (isAsked(asked) && trace ? courseOf(plan, trace) : null),
    // eslint-disable-next-line react-hooks/exhaustive-deps
    [plan, trace, asked.from, asked.to, asked.on],
  );
  const begin = course?.there[0];
  useEffect(() => {
    if (begin) jumper.current?.show(begin);
  }, [begin]);
  const bridged = sharing ? plan.lanes.find((l) => l.name === sharing)?.rail : undefined;
  const edge = plan.width;
  useEffect(() => {
    if (bridged !== undefined) jumper.current?.show({ x: edge, y: bridged }); // bridges stand at the far end
  }, [bridged, edge]);
  const [at, setAt] = useState<At>({ lane: 0, column: 0 });
  const openShares = useCallback(
    (lanes: [number, number]) => {
      const names = [...new Set(lanes)].map((l) => plan.lanes[l]?.name ?? "");
      change({ fresh: null, many: null, net: null, lane: null, hub: null, shares: names.join(" ") });
    },
    [plan, change],
  );
  const step = (by: number) => {
    const next = details[details.indexOf(detail) + by];
    if (next) change({ detail: next }, true);
  };
  const jump = (to: At) => {
    setAt(to);
    jumper.current?.to(to);
  };
  return (
    <>
      <HealthBar
        estate={estate}
        told={told}
        sessions={sessions}
        plan={plan}
        detail={detail}
        onDetail={(d) => change({ detail: d }, true)}
        onJump={jump}
      />
      <Tray networks={plan.tray} />
      {(estate.hubs.length === 0 || estate.segments.length === 0) && (
        <p className="px-5 py-3 text-[13px]">
          Networks are attached to hubs and assigned to segments.{" "}
          <button
            className="text-accent hover:underline"
            onClick={() => change({ fresh: "yes", net: null, many: null, shares: null })}
          >
            Make the first {estate.segments.length === 0 ? "segment" : "hub"}
          </button>
        </p>
      )}
      <Plane
        plan={plan}
        told={told}
        course={course}
        at={at}
        lit={params.get("net") ?? ""}
        jumper={jumper}
        onWidth={setWidth}
        onMove={setAt}
        onOpen={(to) => {
          setAt(to);
          change({
            fresh: null,
            many: null,
            shares: null,
            lane: plan.lanes[to.lane]?.name ?? null,
            hub: plan.columns[to.column]?.hub?.name ?? null,
            net: null,
          });
        }}
        onNetwork={(name) =>
          change({ fresh: null, many: null, shares: null, net: name, lane: null, hub: null })
        }
        onHub={(name) => change({ fresh: null, many: null, shares: null, hub: name, lane: null, net: null })}
        onLane={(lane) => {
          const first = Math.min(plan.columns.length - 1, plan.lanes[lane]?.from ?? 0);
          const hub = plan.columns[first]?.hub?.name;
          if (hub && !plan.lanes[lane]?.internet)
            change({
              fresh: null,
              many: null,
              shares: null,
              lane: plan.lanes[lane]?.name ?? null,
              hub,
              net: null,
            });
        }}
        onShares={openShares}
        onDrop={(text, to) => {
          const [net, fromLane, fromHub] = text.split(" ");
          const hub = plan.columns[to.column]?.hub?.name;
          if (net && hub)
            change({
              fresh: null,
              many: null,
              shares: null,
              net,
              into: plan.lanes[to.lane]?.name ?? null,
              onto: hub,
              "from-lane": fromLane ?? null,
              "from-hub": fromHub ?? null,
              lane: null,
              hub: null,
            });
        }}
        onDetail={step}
      />
      <Key detail={detail} />
    </>
  );
}
