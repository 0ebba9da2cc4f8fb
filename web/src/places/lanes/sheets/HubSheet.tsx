import { useState } from "react";
import { Link, useLocation } from "react-router";
import type { WiringEdit } from "../../../api/queries";
import { Button, Choice } from "../../../parts/fields";
import { counted } from "../../../parts/wording";
import { Consequence } from "../../../parts/Consequence";
import type { Estate, Told } from "../estate";
import { Listening } from "./Routers";
import { Part, Sheet } from "./Sheet";

/** A hub: how it is, what it is linked to, which pools and exits are there. */
export function HubSheet({ estate, told, hub }: { estate: Estate; told: Told; hub: string }) {
  const [edits, setEdits] = useState<WiringEdit[]>([]);
  const [other, setOther] = useState("");
  const [cost, setCost] = useState(10);
  const at = estate.hubs.find((h) => h.name === hub);
  const state = told.get(`hub:${hub}`);
  const links = estate.links.filter((l) => l.between.includes(hub));
  const far = (l: (typeof links)[number]) => l.between.find((b) => b !== hub) ?? "";
  const unlinked = estate.hubs.filter((h) => h.name !== hub && !links.some((l) => far(l) === h.name));
  const missing = missingLinks(estate, cost);
  const gates = estate.gates.filter((g) => g.hub === hub);
  const failing = new URLSearchParams(useLocation().search);
  failing.set("of", `hub:${hub}`);
  const attached = estate.networks.filter((n) => n.at.some((a) => a.hub === hub)).length;
  return (
    <Sheet
      title={hub}
      under={`${[at?.account, at?.region].filter(Boolean).join(" · ")} · ${counted(attached, "network")}`}
    >
      {state && state.state !== "up" && (
        <p className="text-denied">
          {state.state}: {state.why}
        </p>
      )}
      <p className="text-[13px]">
        <Link to={`/findings/failures?${failing}`} className="text-accent hover:underline">
          What if it fails
        </Link>
      </p>
      <Part title="Linked to">
        <table className="w-full text-[13px]">
          <tbody>
            {links.map((l) => (
              <tr key={l.name} className={l.state === "up" ? "" : "text-denied"}>
                <td className="py-0.5">{far(l)}</td>
                <td>
                  cost {l.cost}
                  {l.segments.length > 0 && `, ${l.segments.join(", ")} only`}
                  {l.state !== "up" && ", down"}
                </td>
                <td className="text-right">
                  <button
                    className="rounded border border-line px-1.5 text-[13px] whitespace-nowrap hover:border-denied hover:text-denied"
                    onClick={() => setEdits([{ op: "unlink", hub, other: far(l) }])}
                  >
                    unlink
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        <div className="flex flex-wrap items-center gap-2 pt-1.5 text-[13px]">
          <Choice
            label="Link to"
            value={other}
            options={[["", "link to…"], ...unlinked.map((h) => [h.name, h.name] as const)]}
            onChange={setOther}
          />
          <label className="flex items-center gap-1 text-soft">
            cost
            <input
              type="number"
              min={1}
              value={cost}
              onChange={(event) => setCost(Math.max(1, Math.trunc(Number(event.target.value))))}
              className="w-16 rounded border border-line bg-paper px-1.5 py-0.5 text-ink"
            />
          </label>
          <Button disabled={other === ""} onClick={() => setEdits([{ op: "link", hub, other, cost }])}>
            Link
          </Button>
          {missing.length > 0 && (
            <Button onClick={() => setEdits(missing)}>
              Link every hub to every other ({missing.length})
            </Button>
          )}
        </div>
        <Consequence edit={{ wiring: edits }} verb="Save" onDone={() => setEdits([])} />
      </Part>
      {gates.length > 0 && (
        <Part title="Firewall pools">
          <ul className="text-[13px]">
            {gates.map((g) => (
              <li key={g.pool} className="py-1">
                <span className="font-semibold">{g.pool}</span>{" "}
                <span className="text-soft">
                  {g.segments.length > 0
                    ? `inspects flows of ${sees(g.segments, estate.segments.length)}`
                    : "inspects no flows here"}
                  ; on failure{" "}
                  {g.onFailure === "open" ? "open: flows pass uninspected" : "closed: flows are denied"}
                </span>
                <ul>
                  {g.firewalls.map((f) => {
                    const why = told.get(`firewall:${f.name}`)?.why || f.why;
                    return (
                      <li key={f.name} className={f.state === "healthy" ? "" : "text-denied"}>
                        {f.name} {f.state}
                        {f.state !== "healthy" && why && `, ${why}`}
                      </li>
                    );
                  })}
                </ul>
              </li>
            ))}
          </ul>
        </Part>
      )}
      <Exits estate={estate} hub={hub} />
      <Listening key={hub} hub={hub} />
    </Sheet>
  );
}

/** Segments in as few words as say it. */
function sees(segments: string[], all: number): string {
  if (segments.length === all && all > 3) return "every segment";
  const shown = segments.slice(0, 8).join(", ");
  return segments.length > 8 ? `${shown} and ${segments.length - 8} more` : shown;
}

/** How many segments are ticked one by one. */
const few = 4;

/** The exits at a hub: which segments each serves, and one more. */
function Exits({ estate, hub }: { estate: Estate; hub: string }) {
  const [edits, setEdits] = useState<WiringEdit[]>([]);
  const [name, setName] = useState<string | null>(null); // of the exit that is written
  const exits = estate.exits.filter((x) => x.hub === hub);
  const [serves, setServes] = useState<string[]>([]);
  const toggle = (s: string) =>
    setServes(serves.includes(s) ? serves.filter((x) => x !== s) : [...serves, s]);
  const names = estate.segments.map((s) => s.name);
  const all = serves.length === names.length;
  return (
    <Part title="Exits">
      <ul className="text-[13px]">
        {exits.map((x) => (
          <li key={x.name} className="flex items-baseline gap-2">
            <span className="flex-1">
              <span className="font-semibold">{x.name}</span>{" "}
              <span className="text-soft">
                of {sees(x.segments, estate.segments.length)}
                {x.published.length > 0 && `; publishes ${x.published.join(", ")}`}
              </span>
              {x.state !== "up" && <span className="text-denied"> down</span>}
            </span>
            <button
              className="rounded border border-line px-1.5 text-[13px] whitespace-nowrap hover:border-accent hover:text-accent"
              onClick={() => {
                setName(x.name);
                setServes(x.segments);
              }}
            >
              edit
            </button>
            <button
              className="rounded border border-line px-1.5 text-[13px] whitespace-nowrap hover:border-denied hover:text-denied"
              onClick={() => setEdits([{ op: "close-exit", name: x.name }])}
            >
              close
            </button>
          </li>
        ))}
      </ul>
      {name === null && (
        <div className="pt-1.5">
          <Button
            onClick={() => {
              setName(freeName(hub, estate));
              setServes([]);
            }}
          >
            Open an exit…
          </Button>
        </div>
      )}
      <div
        hidden={name === null}
        className="flex flex-wrap items-center gap-x-3 gap-y-1 pt-1.5 text-[13px] [[hidden]]:hidden"
      >
        <input
          aria-label="Name of the exit"
          value={name ?? ""}
          onChange={(event) => setName(event.target.value)}
          className="w-36 rounded border border-line bg-paper px-2 py-0.5"
        />
        {estate.segments.length > few && (
          <button className="text-accent hover:underline" onClick={() => setServes(all ? [] : names)}>
            {all ? "none of them" : `all ${names.length} segments`}
          </button>
        )}
        {estate.segments.map((s) => (
          <label key={s.name} className="flex items-center gap-1">
            <input type="checkbox" checked={serves.includes(s.name)} onChange={() => toggle(s.name)} />
            {s.name}
          </label>
        ))}
        <Button
          disabled={serves.length === 0 || !name}
          onClick={() => setEdits([{ op: "open-exit", name: name ?? "", hub, segments: serves }])}
        >
          {exits.some((x) => x.name === name) ? "Change" : "Open"}
        </Button>
        <Button
          onClick={() => {
            setName(null);
            setEdits([]);
          }}
        >
          Cancel
        </Button>
      </div>
      <Consequence
        edit={{ wiring: edits }}
        verb="Save"
        onDone={() => {
          setEdits([]);
          setName(null);
        }}
      />
    </Part>
  );
}

/** A name for a further exit at a hub that no exit has. */
function freeName(hub: string, estate: Estate): string {
  const taken = new Set(estate.exits.map((x) => x.name));
  for (let n = 1; ; n++) {
    const name = n === 1 ? `${hub}-out` : `${hub}-out-${n}`;
    if (!taken.has(name)) return name;
  }
}

/** The links that a full mesh of hubs lacks. */
export function missingLinks(estate: Estate, cost: number): WiringEdit[] {
  const joined = new Set(
    estate.links.flatMap((l) => [l.between.join(" "), [...l.between].reverse().join(" ")]),
  );
  const names = estate.hubs.map((h) => h.name).sort();
  return names.flatMap((a, i) =>
    names
      .slice(i + 1)
      .filter((b) => !joined.has(`${a} ${b}`))
      .map((b): WiringEdit => ({ op: "link", hub: a, other: b, cost })),
  );
}
