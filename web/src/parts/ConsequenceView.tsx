import { ArrowRight } from "lucide-react";
import { ApiProblem } from "../api/client";
import type { Schemas } from "../api/client";
import type { EstateEdit } from "../api/queries";
import { Button } from "./fields";
import { Marks } from "./marks/RoadMark";
import { routeRows } from "./routeRows";
import { WhatChanges } from "./WhatChanges";
import { capital, counted, nodeName } from "./wording";

interface Props {
  consequence: Schemas["Consequence"];
  /** Flows can be asked about: not where a draft would be left for that. */
  asks?: boolean | undefined;
  onRemedy?: ((way: Schemas["Remedy"]) => void) | undefined;
  onAlong?: ((edit: EstateEdit) => void) | undefined;
}

/** What an edit changes: why it is refused, or groups, routes, flows and expectations before and after. */
export function ConsequenceView({ consequence: c, asks, onRemedy, onAlong }: Props) {
  if (c.inUse) return <InUse use={c.inUse} onAlong={onAlong} />;
  if (c.refused.length > 0) return <Refused refused={c.refused} onRemedy={onRemedy} />;
  return (
    <>
      <Groups groups={c.groups} />
      <Routes routes={c.routes} more={c.more} told={c.about === null} />
      <h4 className="pt-2 font-semibold">Flows</h4>
      {c.effect && (
        <div className="@container">
          <div className="grid grid-cols-[minmax(0,1fr)] gap-x-6 gap-y-3 @2xl:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
            <div>
              <WhatChanges asks={asks ?? false} {...c.effect} />
            </div>
            <Cells cells={c.effect.cells} />
          </div>
        </div>
      )}
    </>
  );
}

/** What went wrong with an edit, in one text. */
export function problemText(error: Error): string {
  if (error instanceof ApiProblem && error.problem.problems) {
    return error.problem.problems.map((p) => (p.fix ? `${p.message}; ${p.fix}` : p.message)).join(". ");
  }
  return error.message;
}

/** Keeps an edit that brings a fault: a draft can hold it, and cannot be applied with it. */
export function KeepAnyway({
  consequence,
  onKeep,
}: {
  consequence: Schemas["Consequence"];
  onKeep: () => void;
}) {
  if (consequence.refused.length === 0 || consequence.inUse !== null) return null;
  return (
    <Button title="A draft can hold it, and cannot be applied before the fault is fixed." onClick={onKeep}>
      Keep in the draft anyway
    </Button>
  );
}

function Refused({
  refused,
  onRemedy,
}: {
  refused: Schemas["Refusal"][];
  onRemedy: Props["onRemedy"] | undefined;
}) {
  const remedies = new Map(refused.flatMap((r) => r.remedies).map((w) => [w.words, w]));
  return (
    <div
      role="alert"
      aria-label="Refused"
      className="my-2 border-l-[3px] border-denied bg-denied/8 px-3 py-2"
    >
      <p className="font-semibold text-denied">Refused: this introduces {counted(refused.length, "fault")}</p>
      <ul>
        {refused.slice(0, 6).map((r) => (
          <li key={r.message} className="pt-1.5">
            {capital(r.message)}
            {r.prefixes.length === 2 && (
              <span className="block font-mono text-xs">
                {r.prefixes[0]} ↔ {r.prefixes[1]}
              </span>
            )}
            <span className="block text-soft">How to fix it: {r.fix}</span>
          </li>
        ))}
      </ul>
      {onRemedy &&
        [...remedies.values()].map((w) => (
          <button
            key={w.words}
            onClick={() => onRemedy(w)}
            className="mt-2 block rounded border border-accent px-2 py-0.5 text-left text-accent hover:bg-accent/10"
          >
            {w.words}
          </button>
        ))}
      {refused.length > 6 && <p className="pt-1 text-soft">and {refused.length - 6} more faults</p>}
    </div>
  );
}

function InUse({ use, onAlong }: { use: Schemas["InUse"]; onAlong: Props["onAlong"] | undefined }) {
  const things = (list: Schemas["Thing"][]) => list.map((t) => `${t.kind} ${t.name}`).join(", ");
  return (
    <div role="alert" aria-label="In use" className="my-2 border-l-[3px] border-denied bg-denied/8 px-3 py-2">
      <p className="font-semibold text-denied">
        {capital(use.thing.kind)} {use.thing.name} is in use by {counted(use.by.length, "object")}
      </p>
      <p className="pt-1">{things(use.by)}</p>
      {use.changed.length > 0 && (
        <p className="pt-1.5">
          <span className="text-soft">It must be removed from:</span> {things(use.changed)}
        </p>
      )}
      {use.gone.length > 0 && (
        <p className="pt-1.5">
          <span className="text-soft">These must be deleted too, because nothing would be left of them:</span>{" "}
          {things(use.gone)}
        </p>
      )}
      {onAlong && (
        <button
          onClick={() => onAlong({ operations: use.operations })}
          className="mt-2 block rounded border border-accent px-2 py-0.5 text-left text-accent hover:bg-accent/10"
        >
          Include {counted(use.changed.length + use.gone.length, "object")} that{" "}
          {use.changed.length + use.gone.length === 1 ? "refers" : "refer"} to it
        </button>
      )}
    </div>
  );
}

function Groups({ groups }: { groups: Schemas["GroupChange"][] }) {
  if (groups.length === 0) return null;
  return (
    <>
      <h4 className="pt-2 font-semibold">{counted(groups.length, "group changes", "groups change")}</h4>
      <ul aria-label="Groups that change">
        {groups.slice(0, 12).map((g) => (
          <li key={g.name} className="border-t border-line py-1">
            <span className="font-semibold">{g.name}</span>{" "}
            <span className="text-soft">
              {counted(g.before, "workload")} → {g.after}
            </span>
            {g.gained.length > 0 && <span className="block">+ {g.gained.join(", ")}</span>}
            {g.lost.length > 0 && <span className="block text-denied">− {g.lost.join(", ")}</span>}
          </li>
        ))}
        {groups.length > 12 && (
          <li className="text-soft">and {counted(groups.length - 12, "more", "more")}</li>
        )}
      </ul>
    </>
  );
}

/** How many rows of routes that change are shown, and how many prefixes of each. */
const rowsShown = 12;
const prefixesShown = 4;

/** Routes before and after; that none changes is said where cells do not say more. */
function Routes({ routes, more, told }: { routes: Schemas["RouteChange"][]; more: number; told: boolean }) {
  const rows = routeRows(routes);
  const shown = rows.slice(0, rowsShown);
  const rest = routes.length + more - shown.reduce((n, r) => n + r.prefixes.length, 0);
  if (routes.length === 0 && !told) return null;
  return (
    <>
      <h4 className="pt-2 font-semibold">
        {routes.length === 0
          ? "No routes at hubs change"
          : counted(routes.length + more, "route at hubs changes", "routes at hubs change")}
      </h4>
      {routes.length > 0 && (
        <table aria-label="Routes that change" className="w-full">
          <tbody>
            {shown.map((r) => (
              <tr
                key={r.segment + r.prefixes[0] + r.before + r.after}
                className="border-t border-line align-baseline"
              >
                <td className="py-0.5 pr-2 font-mono text-xs" title={r.prefixes.join(", ")}>
                  {r.prefixes.slice(0, prefixesShown).map((p) => (
                    <span key={p} className="block">
                      {p}
                    </span>
                  ))}
                  {r.prefixes.length > prefixesShown && (
                    <span className="block font-sans text-soft">
                      and {r.prefixes.length - prefixesShown} more
                    </span>
                  )}
                </td>
                <td className="pr-2 whitespace-nowrap text-soft">{r.segment}</td>
                <td className="pr-1">
                  {r.before || <span className="text-soft">no route</span>}
                  <span className="text-soft"> → </span>
                  {r.after || <span className="text-denied">no route</span>}
                </td>
                <td className="text-right whitespace-nowrap text-soft" title={r.hubs.join(", ")}>
                  {counted(r.hubs.length, "hub")}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {rest > 0 && <p className="text-soft">and {rest} more</p>}
    </>
  );
}

/** How many cells that change are listed. */
const cellsShown = 60;

function Cells({ cells }: { cells: Schemas["CellEffect"][] }) {
  if (cells.length === 0) return null;
  return (
    <ul aria-label="Cells that change">
      {cells.slice(0, cellsShown).map((c) => (
        <li key={`${c.row}>${c.col}`} className="flex items-center gap-2 border-t border-line py-1.5">
          <span className="min-w-0 flex-1 truncate">
            {nodeName(c.row)} → {nodeName(c.col)}
          </span>
          <Marks marks={c.before} size={11} />
          <ArrowRight size={12} className="flex-none text-soft" />
          <Marks marks={c.after} size={11} />
        </li>
      ))}
      {cells.length > cellsShown && (
        <li className="border-t border-line py-1 text-soft">
          and {counted(cells.length - cellsShown, "more", "more")}
        </li>
      )}
    </ul>
  );
}
