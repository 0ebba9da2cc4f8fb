import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ApiProblem } from "../api/client";
import type { Schemas } from "../api/client";
import { estateQuery, everything, postWiring, wiringQuery } from "../api/queries";
import type { WiringEdit } from "../api/queries";
import { Button } from "./fields";
import { routeRows } from "./routeRows";
import { WhatChanges } from "./WhatChanges";
import { useDebounced } from "./useDebounced";
import { capital, counted } from "./wording";

interface Props {
  edits: WiringEdit[];
  /** What the button says. */
  verb: string;
  onDone: () => void;
  /** Takes up a way out of a refusal. */
  onRemedy?: (way: Schemas["Remedy"]) => void;
}

/** What edits would do: why they are refused, or which routes and flows change; and the button that makes them. */
export function Consequence({ edits, verb, onDone, onRemedy }: Props) {
  const queries = useQueryClient();
  const settled = useDebounced(edits, 120);
  const estate = useQuery(estateQuery);
  const tried = useQuery(wiringQuery(settled));
  const make = useMutation({
    mutationFn: () => postWiring(edits, estate.data?.revision ?? 0),
    onSuccess: async () => {
      onDone();
      await queries.invalidateQueries({ queryKey: everything });
    },
  });
  if (edits.length === 0) return null;
  const fresh = settled === edits && tried.data;
  const refused = fresh ? fresh.refused : [];
  const error = make.error ?? tried.error;
  return (
    <div data-testid="consequence" className="text-[13px]">
      {!fresh && !error && <p className="py-2 text-soft">Computing the changes…</p>}
      {refused.length > 0 && <Refused refused={refused} onRemedy={onRemedy} />}
      {error && (
        <p role="alert" className="py-2 text-denied">
          {error instanceof ApiProblem && error.problem.problems
            ? error.problem.problems.map((p) => `${p.message}; ${p.fix}`).join(". ")
            : error.message}
        </p>
      )}
      {fresh && refused.length === 0 && <Changes rewired={fresh} />}
      <div className="flex justify-end pt-2">
        <Button main disabled={!fresh || refused.length > 0 || make.isPending} onClick={() => make.mutate()}>
          {verb}
        </Button>
      </div>
    </div>
  );
}

function Refused({ refused, onRemedy }: { refused: Schemas["Refusal"][]; onRemedy: Props["onRemedy"] }) {
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

/** How many rows of routes that change are shown, and how many prefixes of each. */
const rowsShown = 12;
const prefixesShown = 4;

/** Routes and flows before and after. */
export function Changes({ rewired }: { rewired: Schemas["Rewired"] }) {
  const { effect, routes, more } = rewired;
  const rows = routeRows(routes);
  const shown = rows.slice(0, rowsShown);
  const rest = routes.length + more - shown.reduce((n, r) => n + r.prefixes.length, 0);
  return (
    <>
      <h4 className="pt-2 font-semibold">
        {routes.length === 0
          ? "No routes change"
          : counted(routes.length + more, "route changes", "routes change")}
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
      <h4 className="pt-2 font-semibold">Flows</h4>
      {effect && <WhatChanges {...effect} />}
    </>
  );
}
