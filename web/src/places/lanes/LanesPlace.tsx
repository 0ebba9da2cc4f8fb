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
import { useSelection } from "../../frame/selection";
import type { Selection } from "../../frame/selection";
import { ScopeStrip, useScope } from "../../frame/scope";
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
import { useUnforced } from "./force";
import type { Unforced } from "./force";
import { HealthBar } from "./HealthBar";
import { litBy } from "./lit";
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
  const unforced = useUnforced();
  return (
    <div className="relative flex h-full">
      <section aria-label="Lanes" className="flex min-w-0 flex-1 flex-col">
        {lanes.error && <p className="px-5 py-3 text-denied">{lanes.error.message}</p>}
        {lanes.data && (
          <Whole
            estate={lanes.data}
            told={told}
            unforced={unforced}
            sessions={sessions.data?.sessions ?? []}
          />
        )}
      </section>
      <Side estate={lanes.data} told={told} />
    </div>
  );
}

/** What is beside the plane: what was picked there, or the road of the question. */
function Side({ estate, told }: { estate: Estate | undefined; told: Told }) {
  const { params } = useUrlState();
  const { selection } = useSelection();
  const picked = estate && sheetOf(selection, estate, told);
  if (picked) return picked;
  return params.get("road") === "shown" ? <Panel /> : null;
}

/** The sheet of what is selected, if the estate has it. */
function sheetOf(selection: Selection, estate: Estate, told: Told) {
  switch (selection.kind) {
    case "network": {
      const network = estate.networks.find((n) => n.name === selection.name);
      if (!network) return null;
      const key = JSON.stringify([selection, network.subnets, network.at]);
      return <NetworkSheet key={key} estate={estate} told={told} network={network} drop={selection.drop} />;
    }
    case "shares":
      return <SharesSheet key={selection.segments.join(" ")} estate={estate} of={selection.segments} />;
    case "new":
      return <NewSheet estate={estate} />;
    case "many":
      return <GroupSheet estate={estate} />;
    case "routes": {
      const { segment, hub } = selection;
      const shares = estate.shares.filter((s) => s.owner === segment || s.guest === segment).length;
      return <RoutesSheet key={`${segment} ${hub}`} segment={segment} hub={hub} shares={shares} />;
    }
    case "hub":
      return <HubSheet key={selection.name} estate={estate} told={told} hub={selection.name} />;
    case "nothing":
      return null;
  }
}

type WholeProps = { estate: Estate; told: Told; unforced: Unforced; sessions: Session[] };

function Whole({ estate, told, unforced, sessions }: WholeProps) {
  const { params, change } = useUrlState();
  const jumper = useRef<Jumper>(null);
  const [width, setWidth] = useState(0);
  const wanted = params.get("detail") as Detail | null;
  const detail = wanted && details.includes(wanted) ? wanted : fitting(estate, width || 1240);
  const { selection, select } = useSelection();
  const focus = selection.kind === "hub" ? selection.name : selection.kind === "routes" ? selection.hub : "";
  const sharing = selection.kind === "shares" ? (selection.segments[0] ?? "") : "";
  const plan = useMemo(
    () => layout(estate, detail, told, width, focus, sharing),
    [estate, detail, told, width, focus, sharing],
  );

  const shown = useScope();
  const [scope, of] = [shown?.scope, shown && `${shown.of.kind}:${shown.of.name}`];
  const lit = useMemo(() => {
    const [kind = "", name = ""] = (of ?? "").split(":");
    return scope ? litBy({ kind, name }, scope) : null;
  }, [scope, of]);
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
      select({ kind: "shares", segments: [...new Set(lanes)].map((l) => plan.lanes[l]?.name ?? "") });
    },
    [plan, select],
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
        unforced={unforced}
        sessions={sessions}
        plan={plan}
        detail={detail}
        onDetail={(d) => change({ detail: d }, true)}
        onJump={jump}
      />
      <ScopeStrip />
      <Tray networks={plan.tray} />
      {(estate.hubs.length === 0 || estate.segments.length === 0) && (
        <p className="px-5 py-3 text-[13px]">
          Networks are attached to hubs and assigned to segments.{" "}
          <button className="text-accent hover:underline" onClick={() => select({ kind: "new" })}>
            Make the first {estate.segments.length === 0 ? "segment" : "hub"}
          </button>
        </p>
      )}
      <Plane
        plan={plan}
        told={told}
        unforced={unforced}
        course={course}
        at={at}
        lit={selection.kind === "network" ? selection.name : ""}
        scope={lit}
        jumper={jumper}
        onWidth={setWidth}
        onMove={setAt}
        onOpen={(to) => {
          setAt(to);
          const segment = plan.lanes[to.lane]?.name;
          const hub = plan.columns[to.column]?.hub?.name;
          if (segment && hub) select({ kind: "routes", segment, hub });
          else if (hub) select({ kind: "hub", name: hub });
        }}
        onNetwork={(name) => select({ kind: "network", name })}
        onHub={(name) => select({ kind: "hub", name })}
        onLane={(lane) => {
          const first = Math.min(plan.columns.length - 1, plan.lanes[lane]?.from ?? 0);
          const hub = plan.columns[first]?.hub?.name;
          const segment = plan.lanes[lane]?.name;
          if (hub && segment && !plan.lanes[lane]?.internet) select({ kind: "routes", segment, hub });
        }}
        onShares={openShares}
        onDrop={(text, to) => {
          const [net, fromLane, fromHub] = text.split(" ");
          const hub = plan.columns[to.column]?.hub?.name;
          const into = plan.lanes[to.lane]?.name;
          if (net && hub && into) {
            const drop = { into, onto: hub, fromSegment: fromLane ?? "", fromHub: fromHub ?? "" };
            select({ kind: "network", name: net, drop });
          }
        }}
        onDetail={step}
      />
      <Key detail={detail} unforced={unforced.behind.length > 0} />
    </>
  );
}
