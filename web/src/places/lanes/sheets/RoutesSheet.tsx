import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas } from "../../../api/client";
import { routesQuery } from "../../../api/queries";
import { useSelection } from "../../../frame/selection";
import { ThingLink } from "../../../parts/ThingLink";
import { useDebounced } from "../../../parts/useDebounced";
import { counted } from "../../../parts/wording";
import { Consequence } from "../../../parts/Consequence";
import { Part, Sheet } from "./Sheet";
import { Waiting } from "./Waiting";

/** The route table of a segment at a hub. */
export function RoutesSheet({ segment, hub, shares }: { segment: string; hub: string; shares: number }) {
  const { select } = useSelection();
  return (
    <Sheet
      title={
        <>
          {segment} <span className="font-normal text-soft">at</span> {hub}
        </>
      }
      under={
        <>
          how this hub reaches every address of the segment, and what its{" "}
          {shares === 0 ? (
            "shares"
          ) : (
            <button
              className="text-accent hover:underline"
              onClick={() => select({ kind: "shares", segments: [segment] })}
            >
              {counted(shares, "share")}
            </button>
          )}{" "}
          make reachable
        </>
      }
    >
      <RouteTable of={{ segment, hub }} />
    </Sheet>
  );
}

/** How many routes are drawn before the rest is counted. */
const most = 200;

/** A route table, with a look-up; what is wrong in it can be fixed from it. */
export function RouteTable({ of }: { of: { segment?: string; hub?: string; network?: string } }) {
  const [find, setFind] = useState("");
  const [remedy, setRemedy] = useState<Schemas["Remedy"] | null>(null);
  const settled = useDebounced(find, 100);
  const routes = useQuery(routesQuery(settled ? { ...of, find: settled } : of));
  const data = routes.data;
  const [only, setOnly] = useState(false);
  const broken = (r: Schemas["RouteRow"]) => r.state === "nowhere" || r.state === "one-way";
  const wrong = data?.rows.filter(broken).length ?? 0;
  const rows = data?.rows.filter((r) => !only || broken(r)) ?? [];
  return (
    <>
      {data && data.waiting.length > 0 && <Waiting rows={data.waiting} more={data.more} />}
      <input
        aria-label="Find a route by address, prefix or name"
        placeholder="address, prefix or name"
        value={find}
        onChange={(event) => setFind(event.target.value)}
        className="mt-1 w-full rounded border border-line bg-paper px-2.5 py-1"
      />
      {routes.error && <p className="pt-2 text-denied">{routes.error.message}</p>}
      {data && (
        <>
          <p className="py-1.5 text-xs text-soft">
            {settled ? `${data.rows.length} of ` : ""}
            {counted(data.total, "route")}
            {wrong > 0 && (
              <>
                {" · "}
                <button
                  aria-pressed={only}
                  className="text-denied underline decoration-dotted aria-pressed:font-semibold"
                  onClick={() => setOnly(!only)}
                >
                  {wrong} do not work
                </button>
              </>
            )}
            {data.rows[0]?.wins && " · the longest match comes first and applies"}
            {settled !== "" && data.rows.length === 0 && " · no matching route"}
          </p>
          <table aria-label="Routes" className="w-full text-[13px]">
            {named(rows.slice(0, most)).map(([key, r]) => (
              <RouteLine key={key} row={r} beaten={!r.wins && !!data.rows[0]?.wins} onRemedy={setRemedy} />
            ))}
          </table>
          {rows.length > most && (
            <p className="pt-1 text-xs text-soft">and {rows.length - most} more: look one up</p>
          )}
          {remedy && (
            <Part title={remedy.words}>
              <Consequence edit={{ wiring: remedy.edits }} verb="Apply fix" onDone={() => setRemedy(null)} />
            </Part>
          )}
        </>
      )}
    </>
  );
}

/** Rows under names that they keep when others come and go: who is about to press a button in one keeps it. */
function named(rows: Schemas["RouteRow"][]): [string, Schemas["RouteRow"]][] {
  const had = new Map<string, number>();
  return rows.map((r) => {
    const name = `${r.prefix} ${r.origin} ${r.of.kind} ${r.of.name}`;
    const before = had.get(name) ?? 0;
    had.set(name, before + 1);
    return [`${name} ${before}`, r];
  });
}

/** Of how many hubs and networks a path stands beside its prefix. */
const beside = 2;

type LineProps = { row: Schemas["RouteRow"]; beaten: boolean; onRemedy: (m: Schemas["Remedy"]) => void };

function RouteLine({ row, beaten, onRemedy }: LineProps) {
  const bad = row.state === "nowhere" || row.state === "one-way";
  const far = row.path.split(" › ").length > beside; // it has a line of its own
  return (
    <tbody
      data-route={row.prefix}
      data-state={row.state}
      className={`border-t border-line ${beaten || row.state === "unused" ? "text-soft" : ""} ${row.wins ? "bg-wash font-semibold" : ""}`}
    >
      <tr className="align-baseline">
        <td className="py-1 pr-2 font-mono text-xs whitespace-nowrap">{row.prefix}</td>
        <td className="w-full max-w-0 truncate py-1 pr-2">
          <span className="text-soft">{row.origin} </span>
          <ThingLink thing={row.of} plain />
          {row.account === "missing" && <span className="text-soft"> · not yet in the account</span>}
          {row.account === "same" && <span className="text-soft"> · as in the account</span>}
        </td>
        <td className="py-1 text-right whitespace-nowrap">
          {row.path ? (
            <span title={`next: ${row.next}`}>
              {!far && row.path} <span className="text-soft">{row.cost}</span>
            </span>
          ) : (
            row.state !== "nowhere" && <span className="text-soft">{row.next}</span>
          )}
          <RouteState state={row.state} />
        </td>
      </tr>
      {far && (
        <tr>
          <td />
          <td colSpan={2} className="pb-1 text-xs">
            {row.path}
          </td>
        </tr>
      )}
      {(row.why || row.remedy) && (
        <tr>
          <td colSpan={3} className={`pb-1.5 text-xs ${bad ? "text-denied" : "text-soft"}`}>
            {row.why}
            {row.remedy && (
              <button
                className="block text-left text-accent hover:underline"
                onClick={() => row.remedy && onRemedy(row.remedy)}
              >
                {row.remedy.words}
              </button>
            )}
          </td>
        </tr>
      )}
    </tbody>
  );
}

const states: Record<Schemas["RouteRow"]["state"], string> = {
  ok: "",
  nowhere: "dead route",
  "one-way": "no return path",
  past: "bypasses hubs",
  unused: "not used",
};

function RouteState({ state }: { state: Schemas["RouteRow"]["state"] }) {
  if (state === "ok") return null;
  const bad = state === "nowhere" || state === "one-way";
  return <span className={`block text-xs ${bad ? "text-denied" : "text-soft"}`}>{states[state]}</span>;
}
