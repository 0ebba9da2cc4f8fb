import { useState } from "react";
import type { WiringEdit } from "../../api/queries";
import { Button } from "../../parts/fields";
import { ThingLink } from "../../parts/ThingLink";
import { useAddress } from "../../frame/address";
import { Consequence } from "./Consequence";
import { StateGlyph } from "./Glyphs";
import { attachState } from "./layout";
import type { Estate, Network, Told } from "./layout";
import { dropped, editsOf, placed } from "./placing";
import type { Placing } from "./placing";
import { Routers } from "./Routers";
import { RouteTable } from "./RoutesSheet";
import { Part, Sheet } from "./Sheet";

/** A network: where it lives, where it is attached and how that is, and its routes; all of it can be changed here. */
export function NetworkSheet({ estate, told, network }: { estate: Estate; told: Told; network: Network }) {
  const { params, change } = useAddress();
  const into = params.get("into");
  const onto = params.get("onto");
  const start =
    into && onto
      ? dropped(network, into, onto, {
          segment: params.get("from-lane") ?? "",
          hub: params.get("from-hub") ?? "",
        })
      : placed(network);
  const [draft, setDraft] = useState<Placing>(start);
  const [besides, setBesides] = useState<WiringEdit[]>([]); // of shares: what keeps what is placed here apart
  const edits = [...editsOf(network, draft), ...besides];
  const segments = [...estate.segments].sort((a, b) => (a.name < b.name ? -1 : 1));
  const peers = estate.peerings.filter((p) => p.between.includes(network.name));
  const done = () => change({ into: null, onto: null, "from-lane": null, "from-hub": null }, true);
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
      <Part title="Lives in">
        <table className="w-full text-[13px]">
          <tbody>
            {Object.keys(draft.segments).map((name) => (
              <tr key={name}>
                <td className="py-0.5 pr-2">{name || "what it announces"}</td>
                <td className="pr-2 font-mono text-xs text-soft">
                  {network.subnets.find((s) => s.name === name)?.prefix}
                  {draft.outside[name] && (
                    <span className="block text-ink">
                      seen as {draft.outside[name]}{" "}
                      <button
                        className="font-sans text-soft hover:text-denied"
                        aria-label={`Do not translate ${name}`}
                        onClick={() => setDraft({ ...draft, outside: { ...draft.outside, [name]: "" } })}
                      >
                        no longer
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
            edits={edits}
            verb={network.at.length === 0 ? "Place it" : "Change it"}
            onDone={done}
            onWay={(way) => {
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
        <Part title="Carries">
          {network.at.map((a) => (
            <Filter key={a.hub} network={network} attach={a} />
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
  const { change } = useAddress();
  const [edits, setEdits] = useState<WiringEdit[]>([]);
  const other = peering.between.find((b) => b !== network.name) ?? "";
  const offers = peering.offersHub === network.name;
  return (
    <div className="pt-1 text-[13px]">
      Peered with{" "}
      <button className="hover:text-accent hover:underline" onClick={() => change({ net: other })}>
        {other}
      </button>
      <span className="text-soft">
        {peering.offersHub === "" && ", neither may use the other's hub "}
        {offers && ", which may use its hub "}
        {peering.offersHub === other && ", whose hub it may use "}
      </span>
      {(offers || (peering.offersHub === "" && network.at.length > 0)) && (
        <button
          className="text-accent hover:underline"
          onClick={() =>
            setEdits([{ op: offers ? "refuse-hub" : "offer-hub", network: network.name, other }])
          }
        >
          {offers ? "no longer" : "let it"}
        </button>
      )}
      <Consequence edits={edits} verb="Do it" onDone={() => setEdits([])} />
    </div>
  );
}

/** Static prefixes that the attachments bear for what lies behind the network. */
function Announced({ estate, network }: { estate: Estate; network: Network }) {
  const [edits, setEdits] = useState<WiringEdit[]>([]);
  const [prefix, setPrefix] = useState("");
  const [segment, setSegment] = useState(network.subnets.find((s) => s.segment)?.segment ?? "");
  const of = network.at.flatMap((a) => a.static.map((s) => ({ ...s, hub: a.hub })));
  return (
    <Part title="Bears for others behind it">
      <ul className="text-[13px]">
        {of.map((s) => (
          <li key={s.hub + s.prefix + s.segment} className="flex items-baseline gap-2">
            <span className="font-mono text-xs">{s.prefix}</span>
            <span className="flex-1 text-soft">
              {s.segment}, at {s.hub}
            </span>
            <button
              className="text-soft hover:text-denied"
              onClick={() => setEdits([{ op: "withdraw", network: network.name, ...s }])}
            >
              withdraw
            </button>
          </li>
        ))}
      </ul>
      <form
        className="flex gap-2 pt-1"
        onSubmit={(event) => {
          event.preventDefault();
          setEdits(
            network.at.map((a) => ({
              op: "bring",
              network: network.name,
              hub: a.hub,
              prefix: prefix.trim(),
              segment,
            })),
          );
        }}
      >
        <input
          aria-label="Static prefix to bear"
          placeholder="a prefix, such as 10.9.0.0/16"
          value={prefix}
          onChange={(event) => setPrefix(event.target.value)}
          className="min-w-0 flex-1 rounded border border-line bg-paper px-2 py-0.5 font-mono text-xs"
        />
        <Choice
          label="Segment of the static prefix"
          value={segment}
          options={[["", "segment…"], ...estate.segments.map((s) => [s.name, s.name] as const)]}
          onChange={setSegment}
        />
        <Button type="submit" disabled={prefix.trim() === "" || segment === ""}>
          Bear
        </Button>
      </form>
      <Consequence edits={edits} verb="Do it" onDone={() => setEdits([])} />
    </Part>
  );
}

/** What an attachment accepts of the network, and announces to it. */
function Filter({ network, attach }: { network: Network; attach: Network["at"][number] }) {
  const [accepts, setAccepts] = useState(attach.accepts.join(", "));
  const [announces, setAnnounces] = useState(attach.announces.join(", "));
  const [edits, setEdits] = useState<WiringEdit[]>([]);
  const list = (text: string) => text.split(/[\s,]+/).filter(Boolean);
  const same =
    list(accepts).join() === attach.accepts.join() && list(announces).join() === attach.announces.join();
  const field = "mt-0.5 w-full rounded border border-line bg-paper px-2 py-0.5 font-mono text-xs";
  return (
    <form
      className="text-[13px]"
      onSubmit={(event) => {
        event.preventDefault();
        const of = { network: network.name, hub: attach.hub };
        setEdits([{ op: "filter", ...of, accepts: list(accepts), announces: list(announces) }]);
      }}
    >
      <label className="block pt-1">
        <span className="text-soft">{attach.hub} accepts from it</span>
        <input
          value={accepts}
          placeholder="everything"
          aria-label={`What ${attach.hub} accepts`}
          onChange={(event) => setAccepts(event.target.value)}
          className={field}
        />
      </label>
      <label className="block pt-1">
        <span className="text-soft">and announces to it</span>
        <input
          value={announces}
          placeholder="everything"
          aria-label={`What ${attach.hub} announces`}
          onChange={(event) => setAnnounces(event.target.value)}
          className={field}
        />
      </label>
      {!same && (
        <div className="flex justify-end pt-1">
          <Button type="submit">See what that changes</Button>
        </div>
      )}
      <Consequence edits={edits} verb="Do it" onDone={() => setEdits([])} />
    </form>
  );
}

type AttachProps = {
  estate: Estate;
  told: Told;
  network: Network;
  draft: Placing;
  onChange: (p: Placing) => void;
};

const uplinks = [
  ["", "uplink not said"],
  ["native", "native"],
  ["tunnel", "tunnel"],
  ["line", "dedicated line"],
] as const;

function Attachments({ estate, told, network, draft, onChange }: AttachProps) {
  const hubs = [...estate.hubs].sort((a, b) => (a.name < b.name ? -1 : 1));
  const free = hubs.filter((h) => !draft.at.some((a) => a.hub === h.name));
  const least = Math.min(...draft.at.map((a) => a.cost));
  const set = (hub: string, to: Partial<Placing["at"][number]>) =>
    onChange({ ...draft, at: draft.at.map((a) => (a.hub === hub ? { ...a, ...to } : a)) });
  return (
    <>
      <ul className="text-[13px]">
        {draft.at.map((a) => {
          const now = network.at.find((x) => x.hub === a.hub) ?? null;
          const { state, why } = attachState(told, network, now);
          return (
            <li key={a.hub} data-attached={a.hub} className="py-0.5">
              <span className="flex items-center gap-2">
                <span className="min-w-0 flex-1 truncate font-semibold">
                  {a.hub} {now ? null : <span className="font-normal text-accent">new</span>}
                  {draft.at.length > 1 && a.cost > least && (
                    <span className="font-normal text-soft"> standby</span>
                  )}
                </span>
                <StateGlyph state={state} />
                <Choice
                  label={`Uplink to ${a.hub}`}
                  value={a.uplink}
                  options={uplinks}
                  onChange={(uplink) => set(a.hub, { uplink })}
                />
                <label className="flex items-center gap-1 text-soft">
                  cost
                  <input
                    type="number"
                    min={0}
                    aria-label={`Cost to ${a.hub}`}
                    value={a.cost}
                    onChange={(event) =>
                      set(a.hub, { cost: Math.max(0, Math.trunc(Number(event.target.value))) })
                    }
                    className="w-14 rounded border border-line bg-paper px-1.5 py-0.5 text-ink"
                  />
                </label>
                <button
                  className="text-soft hover:text-denied"
                  aria-label={`Detach from ${a.hub}`}
                  onClick={() => onChange({ ...draft, at: draft.at.filter((x) => x.hub !== a.hub) })}
                >
                  detach
                </button>
              </span>
              {state !== "up" && (
                <span className="block text-denied">
                  {state}
                  {why && `: ${why}`}
                </span>
              )}
            </li>
          );
        })}
      </ul>
      {draft.at.length === 0 && <p className="text-[13px] text-soft">to no hub</p>}
      {free.length > 0 && (
        <div className="pt-1">
          <Choice
            label="Attach to"
            value=""
            options={[
              ["", draft.at.length === 0 ? "attach to a hub…" : "attach to another hub, as standby…"],
              ...free.map((h) => [h.name, h.region ? `${h.name}, ${h.region}` : h.name] as const),
            ]}
            onChange={(hub) => {
              const cost = draft.at.length === 0 ? 1 : least + 4;
              if (hub) onChange({ ...draft, at: [...draft.at, { hub, cost, uplink: "" }] });
            }}
          />
        </div>
      )}
    </>
  );
}

type ChoiceProps = {
  label: string;
  value: string;
  options: readonly (readonly [string, string])[];
  onChange: (value: string) => void;
};

/** One of a few, by name. */
export function Choice({ label, value, options, onChange }: ChoiceProps) {
  return (
    <select
      aria-label={label}
      value={value}
      onChange={(event) => onChange(event.target.value)}
      className="max-w-[17rem] rounded border border-line bg-paper px-1.5 py-0.5 text-[13px]"
    >
      {options.map(([v, words]) => (
        <option key={v} value={v}>
          {words}
        </option>
      ))}
    </select>
  );
}
