import { useMemo, useState } from "react";
import type { WiringEdit } from "../../../api/queries";
import { useSelection } from "../../../frame/selection";
import { counted } from "../../../parts/wording";
import { Consequence } from "../../../parts/Consequence";
import { Choice } from "../../../parts/fields";
import { segmentsOf } from "../estate";
import type { Estate, Network } from "../estate";
import { Part, Sheet } from "./Sheet";

/** Networks chosen by their labels, or those that wait for a place, to be placed alike. */
export function GroupSheet({ estate }: { estate: Estate }) {
  const { select } = useSelection();
  const [labels, setLabels] = useState("");
  const [waiting, setWaiting] = useState(true);
  const [segment, setSegment] = useState("");
  const [hub, setHub] = useState("");
  const chosen = useMemo(
    () => chosenBy(estate.networks, labels).filter((n) => !waiting || segmentsOf(n).length === 0),
    [estate, labels, waiting],
  );
  const edits = useMemo(() => editsOf(chosen, segment, hub), [chosen, segment, hub]);
  const names = (list: { name: string }[]) => list.map((x) => x.name).sort();
  return (
    <Sheet title="Place several networks" under="selected by label, into one segment and at one hub">
      <Part title="Which">
        <input
          aria-label="Labels of the networks"
          placeholder="use=farm, zone=north; empty: all"
          value={labels}
          onChange={(event) => setLabels(event.target.value)}
          className="w-full rounded border border-line bg-paper px-2.5 py-1"
        />
        <label className="mt-1.5 flex items-center gap-2 text-[13px]">
          <input type="checkbox" checked={waiting} onChange={(event) => setWaiting(event.target.checked)} />
          only networks in no segment
        </label>
        <p data-testid="chosen" className="pt-1.5 text-[13px]">
          {counted(chosen.length, "network")}
          <span className="text-soft"> {shortly(chosen)}</span>
        </p>
      </Part>
      <Part title="Where">
        <div className="flex gap-2">
          <Choice
            label="Segment of all"
            value={segment}
            options={[["", "keep their segments"], ...names(estate.segments).map((s) => [s, s] as const)]}
            onChange={setSegment}
          />
          <Choice
            label="Hub of all"
            value={hub}
            options={[["", "keep their hubs"], ...names(estate.hubs).map((h) => [h, h] as const)]}
            onChange={setHub}
          />
        </div>
      </Part>
      {edits.length > 0 && (
        <Part title="What this changes">
          <Consequence
            edit={{ wiring: edits }}
            verb={`Place ${chosen.length}`}
            onDone={() => select({ kind: "nothing" }, true)}
          />
        </Part>
      )}
    </Sheet>
  );
}

/** The networks that have all of some labels, written key=value or key, with commas between. */
export function chosenBy(networks: Network[], text: string): Network[] {
  const wanted = text
    .split(",")
    .map((part) => part.trim())
    .filter(Boolean)
    .map((part) => part.split("=").map((x) => x.trim()));
  return networks.filter((n) =>
    wanted.every(([key = "", value]) =>
      value === undefined ? key in n.labels : value !== "" && n.labels[key] === value,
    ),
  );
}

/** The edits that bring networks into a segment, and to a hub beside those that they have. */
export function editsOf(networks: Network[], segment: string, hub: string): WiringEdit[] {
  return networks.flatMap((n) => {
    const out: WiringEdit[] = [];
    const there = segmentsOf(n);
    if (segment && (there.length !== 1 || there[0] !== segment))
      out.push({ op: "live", network: n.name, segment });
    if (hub && !n.at.some((a) => a.hub === hub)) out.push({ op: "attach", network: n.name, hub, cost: 1 });
    return out;
  });
}

function shortly(networks: Network[]): string {
  const shown = networks.slice(0, 8).map((n) => n.name);
  return shown.join(", ") + (networks.length > shown.length ? " …" : "");
}
