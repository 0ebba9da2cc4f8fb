import { useState } from "react";
import type { WiringEdit } from "../../../api/queries";
import { Button, Choice } from "../../../parts/fields";
import type { Estate, Network } from "../estate";
import { Consequence } from "../../../parts/Consequence";
import { Part } from "./Sheet";

/** Static prefixes that the attachments bear for what lies behind the network. */
export function Announced({ estate, network }: { estate: Estate; network: Network }) {
  const [edits, setEdits] = useState<WiringEdit[]>([]);
  const [prefix, setPrefix] = useState("");
  const [segment, setSegment] = useState(network.subnets.find((s) => s.segment)?.segment ?? "");
  const of = network.at.flatMap((a) => a.static.map((s) => ({ ...s, hub: a.hub })));
  return (
    <Part title="Static prefixes it advertises">
      <ul className="text-[13px]">
        {of.map((s) => (
          <li key={s.hub + s.prefix + s.segment} className="flex items-baseline gap-2">
            <span className="font-mono text-xs">{s.prefix}</span>
            <span className="flex-1 text-soft">
              {s.segment}, at {s.hub}
            </span>
            <button
              className="rounded border border-line px-1.5 text-[13px] whitespace-nowrap hover:border-denied hover:text-denied"
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
          aria-label="Static prefix"
          placeholder="such as 10.9.0.0/16"
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
          Add
        </Button>
      </form>
      <Consequence edit={{ wiring: edits }} verb="Save" onDone={() => setEdits([])} />
    </Part>
  );
}

/** A filter as text: everything is empty, and nothing is a word. */
function filterText(prefixes: string[] | null): string {
  return prefixes?.length === 0 ? "nothing" : (prefixes ?? []).join(", ");
}

/** The filter that a text is, null for everything. */
function filterOf(text: string): string[] | null {
  const words = text.split(/[\s,]+/).filter(Boolean);
  if (words.length === 0) return null;
  return words.length === 1 && words[0] === "nothing" ? [] : words;
}

/** What an attachment accepts of the network, and announces to it. */
export function Filter({ network, attach }: { network: Network; attach: Network["at"][number] }) {
  const [accepts, setAccepts] = useState(filterText(attach.accepts));
  const [announces, setAnnounces] = useState(filterText(attach.announces));
  const [edits, setEdits] = useState<WiringEdit[]>([]);
  const same =
    filterText(filterOf(accepts)) === filterText(attach.accepts) &&
    filterText(filterOf(announces)) === filterText(attach.announces);
  const field = "mt-0.5 w-full rounded border border-line bg-paper px-2 py-0.5 font-mono text-xs";
  return (
    <form
      className="text-[13px]"
      onSubmit={(event) => {
        event.preventDefault();
        const of = { network: network.name, hub: attach.hub };
        setEdits([{ op: "filter", ...of, accepts: filterOf(accepts), announces: filterOf(announces) }]);
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
          <Button type="submit">Preview changes</Button>
        </div>
      )}
      <Consequence edit={{ wiring: edits }} verb="Save" onDone={() => setEdits([])} />
    </form>
  );
}
