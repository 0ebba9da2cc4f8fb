import { useState } from "react";
import { Link } from "react-router";
import type { WiringEdit } from "../../../api/queries";
import { Choice } from "../../../parts/fields";
import { ThingLink } from "../../../parts/ThingLink";
import { useSelection } from "../../../frame/selection";
import type { Drop } from "../../../frame/selection";
import { useUnforced } from "../force";
import { Attachments } from "./Attachments";
import { Announced, Filter } from "./Carried";
import { Consequence } from "../../../parts/Consequence";
import type { Estate, Network, Told } from "../estate";
import { dropped, editsOf, placed } from "./placing";
import type { Placing } from "./placing";
import { Routers } from "./Routers";
import { RouteTable } from "./RoutesSheet";
import { Part, Sheet } from "./Sheet";

interface NetworkSheetProps {
  estate: Estate;
  told: Told;
  network: Network;
  /** Where it was dragged to, which is proposed. */
  drop?: Drop | undefined;
}

/** A network: where it lives, where it is attached and how that is, and its routes; all of it can be changed here. */
export function NetworkSheet({ estate, told, network, drop }: NetworkSheetProps) {
  const { select } = useSelection();
  const unforced = useUnforced().networks.get(network.name);
  const start = drop
    ? dropped(network, drop.into, drop.onto, { segment: drop.fromSegment, hub: drop.fromHub })
    : placed(network);
  const [draft, setDraft] = useState<Placing>(start);
  const [besides, setBesides] = useState<WiringEdit[]>([]); // of shares: what keeps what is placed here apart
  const edits = [...editsOf(network, draft), ...besides];
  const segments = [...estate.segments].sort((a, b) => (a.name < b.name ? -1 : 1));
  const peers = estate.peerings.filter((p) => p.between.includes(network.name));
  const done = () => select({ kind: "network", name: network.name }, true);
  return (
    <Sheet
      title={network.name}
      under={
        <>
          {network.kind} · {network.account || "no account"}
          {network.region && ` · ${network.region}`} ·{" "}
          <ThingLink thing={{ kind: "network", name: network.name }} plain />
        </>
      }
    >
      {unforced && (
        <p className="pt-1 text-[13px] text-denied">
          {unforced}.{" "}
          <Link to="/changes/plans" className="text-accent hover:underline">
            See the plan
          </Link>
        </p>
      )}
      <Part title="Segment">
        <table className="w-full text-[13px]">
          <tbody>
            {Object.keys(draft.segments).map((name) => (
              <tr key={name}>
                <td className="py-0.5 pr-2">{name || "learned prefixes"}</td>
                <td className="pr-2 font-mono text-xs text-soft">
                  {network.subnets.find((s) => s.name === name)?.prefix}
                  {draft.outside[name] && (
                    <span className="block text-ink">
                      seen as {draft.outside[name]}{" "}
                      <button
                        className="font-sans rounded border border-line px-1.5 text-[13px] whitespace-nowrap hover:border-denied hover:text-denied"
                        aria-label={`Do not translate ${name}`}
                        onClick={() => setDraft({ ...draft, outside: { ...draft.outside, [name]: "" } })}
                      >
                        remove
                      </button>
                    </span>
                  )}
                </td>
                <td className="text-right">
                  <Choice
                    label={`Segment of ${name || network.name}`}
                    value={draft.segments[name] ?? ""}
                    options={[["", "no segment"], ...segments.map((s) => [s.name, s.name] as const)]}
                    onChange={(s) => setDraft({ ...draft, segments: { ...draft.segments, [name]: s } })}
                  />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Part>
      <Part title="Attached to">
        <Attachments estate={estate} told={told} network={network} draft={draft} onChange={setDraft} />
        {peers.map((p) => (
          <PeeringLine key={p.between.join()} peering={p} network={network} />
        ))}
      </Part>
      {edits.length > 0 && (
        <Part title="What this changes">
          <Consequence
            edit={{ wiring: edits }}
            verb={network.at.length === 0 ? "Place network" : "Save changes"}
            onDone={done}
            onRemedy={(way) => {
              const outside = { ...draft.outside };
              for (const e of way.edits) {
                const subnet = network.subnets.find((s) => s.prefix === e.prefix);
                if (subnet && e.outside && e.network === network.name) outside[subnet.name] = e.outside;
              }
              setDraft({ ...draft, outside });
              setBesides([...besides, ...way.edits.filter((e) => e.op === "show")]);
            }}
          />
        </Part>
      )}
      {network.at.length > 0 && <Announced estate={estate} network={network} />}
      {network.at.length > 0 && <Routers estate={estate} network={network} />}
      {network.at.length > 0 && (
        <Part title="Prefix filters">
          {network.at.map((a, i) => (
            <Filter key={`${a.hub} ${i}`} network={network} attach={a} />
          ))}
        </Part>
      )}
      <Part title="Its routes">
        <RouteTable of={{ network: network.name }} />
      </Part>
    </Sheet>
  );
}

/** A peering, and whether either lets the other use its hub. */
function PeeringLine({ peering, network }: { peering: Estate["peerings"][number]; network: Network }) {
  const { select } = useSelection();
  const [edits, setEdits] = useState<WiringEdit[]>([]);
  const other = peering.between.find((b) => b !== network.name) ?? "";
  const offers = peering.offersHub === network.name;
  return (
    <div className="pt-1 text-[13px]">
      Peered with{" "}
      <button
        className="hover:text-accent hover:underline"
        onClick={() => select({ kind: "network", name: other })}
      >
        {other}
      </button>
      <span className="text-soft">
        {peering.offersHub === "" && ", neither uses the other's hub "}
        {offers && ", which may use this network's hub "}
        {peering.offersHub === other && ", whose hub it may use "}
      </span>
      {(offers || (peering.offersHub === "" && network.at.length > 0)) && (
        <button
          className="text-accent hover:underline"
          onClick={() =>
            setEdits([{ op: offers ? "refuse-hub" : "offer-hub", network: network.name, other }])
          }
        >
          {offers ? "stop offering" : "offer hub"}
        </button>
      )}
      <Consequence edit={{ wiring: edits }} verb="Save" onDone={() => setEdits([])} />
    </div>
  );
}
