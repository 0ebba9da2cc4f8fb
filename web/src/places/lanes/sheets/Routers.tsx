import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schemas } from "../../../api/client";
import { sessionsQuery } from "../../../api/queries";
import type { WiringEdit } from "../../../api/queries";
import { Button, Choice } from "../../../parts/fields";
import { counted, grouped } from "../../../parts/wording";
import { Consequence } from "../../../parts/Consequence";
import { StateGlyph } from "../Glyphs";
import type { Estate, Network } from "../estate";
import { Part } from "./Sheet";

type Session = Schemas["SessionView"];

/** The routers of a network that may announce prefixes: how each is, what came of what it says, and what it may. */
export function Routers({ estate, network }: { estate: Estate; network: Network }) {
  const sessions = useQuery(sessionsQuery);
  const [edits, setEdits] = useState<WiringEdit[]>([]);
  const [more, setMore] = useState(false);
  const of = sessions.data?.sessions.filter((s) => s.network === network.name) ?? [];
  return (
    <Part title="Routers that announce prefixes">
      <ul className="text-[13px]">
        {of.map((s) => (
          <SessionLine key={s.hub + s.router} session={s} onEdit={setEdits} />
        ))}
      </ul>
      {more ? (
        <NewSession estate={estate} network={network} onEdit={setEdits} />
      ) : (
        <button className="text-[13px] text-accent hover:underline" onClick={() => setMore(true)}>
          {of.length === 0 ? "add a BGP router…" : "add another BGP router…"}
        </button>
      )}
      <Consequence
        edit={{ wiring: edits }}
        verb="Save"
        onDone={() => {
          setEdits([]);
          setMore(false);
        }}
      />
    </Part>
  );
}

const list = (text: string) => text.split(/[\s,]+/).filter(Boolean);

const field = "mt-0.5 w-full rounded border border-line bg-paper px-2 py-0.5 font-mono text-xs";

function SessionLine({ session: s, onEdit }: { session: Session; onEdit: (e: WiringEdit[]) => void }) {
  const [may, setMay] = useState(s.may.join(", "));
  const [limit, setLimit] = useState(s.limit);
  const same = list(may).join() === s.may.join() && limit === s.limit;
  const { network, hub, segment, router, as } = s;
  return (
    <li data-session={s.router} data-state={s.state} className="border-t border-line py-1.5 first:border-0">
      <span className="flex items-baseline gap-2">
        <StateGlyph state={s.state === "up" ? "up" : s.state === "down" ? "down" : "waiting"} />
        <span className="font-mono text-xs">{s.router}</span>
        <span className="min-w-0 flex-1 text-soft">
          AS {s.as}, {s.segment} at {s.hub}
        </span>
        <button
          className="rounded border border-line px-1.5 text-[13px] whitespace-nowrap hover:border-denied hover:text-denied"
          onClick={() => onEdit([{ op: "quiet", network, hub, router }])}
        >
          remove
        </button>
      </span>
      <span className={`block ${s.state === "down" ? "text-denied" : "text-soft"}`}>{stateWords(s)}</span>
      <span className="block">{countWords(s)}</span>
      {s.unfit > 0 && (
        <span className="block text-denied">
          {counted(s.unfit, "announced prefix", "announced prefixes")} cannot be used and{" "}
          {s.unfit === 1 ? "is" : "are"} left out
        </span>
      )}
      {s.over > 0 && (
        <span className="block text-denied">
          over its limit of {grouped(s.limit)}: {grouped(s.over)} or more prefixes are ignored
        </span>
      )}
      {s.damped.length > 0 && (
        <span className="block text-denied">
          comes and goes, and is left out:{" "}
          {s.damped
            .slice(0, 4)
            .map((d) => `${d.prefix} until ${clock(d.until)}`)
            .join(", ")}
          {s.damped.length > 4 && ` and ${s.damped.length - 4} more`}
        </span>
      )}
      <form
        className="flex items-end gap-2 pt-1"
        onSubmit={(event) => {
          event.preventDefault();
          onEdit([{ op: "hear", network, hub, segment, router, as, may: list(may), limit }]);
        }}
      >
        <label className="min-w-0 flex-1">
          <span className="text-soft">accepted without approval</span>
          <input
            value={may}
            placeholder="nothing: all of it waits"
            aria-label={`What ${s.router} may announce`}
            onChange={(event) => setMay(event.target.value)}
            className={field}
          />
        </label>
        <label className="w-20">
          <span className="text-soft">at most</span>
          <input
            type="number"
            min={1}
            value={limit}
            aria-label={`Prefix limit of ${s.router}`}
            onChange={(event) => setLimit(Math.max(1, Math.trunc(Number(event.target.value))))}
            className={field}
          />
        </label>
        {!same && <Button type="submit">Preview changes</Button>}
      </form>
    </li>
  );
}

/** A time of day. */
function clock(at: string): string {
  return new Date(at).toLocaleTimeString(undefined, { hour: "2-digit", minute: "2-digit" });
}

/** How a session is, in words. */
export function stateWords(s: Session): string {
  if (s.state === "up")
    return `up since ${clock(s.since)}${s.flaps > 0 ? `, after going down ${counted(s.flaps, "time")}` : ""}`;
  const why = s.why ? `: ${s.why}` : "";
  if (s.state === "down") return `down since ${clock(s.since)}${why}; what it announced stays for a minute`;
  return `has never been up${why}`;
}

/** What became of what a router announces, in words. */
export function countWords(s: Session): string {
  const parts = [
    [s.accepted, "accepted"],
    [s.waiting, "waiting"],
    [s.refused, "refused"],
    [s.withdrawn, "withdrawn but still in use"],
  ] as const;
  const told = parts.filter(([n]) => n > 0).map(([n, words]) => `${grouped(n)} ${words}`);
  return `${counted(s.announced, "prefix", "prefixes")} announced${told.length > 0 ? `; ${told.join(", ")}` : ""}`;
}

type NewProps = { estate: Estate; network: Network; onEdit: (e: WiringEdit[]) => void };

function NewSession({ estate, network, onEdit }: NewProps) {
  const [hub, setHub] = useState(network.at[0]?.hub ?? "");
  const [router, setRouter] = useState("");
  const [as, setAs] = useState("");
  const [segment, setSegment] = useState(network.subnets.find((s) => s.segment)?.segment ?? "");
  const [may, setMay] = useState("");
  return (
    <form
      className="grid grid-cols-2 gap-2 pt-1 text-[13px]"
      onSubmit={(event) => {
        event.preventDefault();
        const of = { network: network.name, hub, segment };
        onEdit([{ op: "hear", ...of, router: router.trim(), as: Number(as), may: list(may) }]);
      }}
    >
      <label>
        <span className="text-soft">router address</span>
        <input
          value={router}
          placeholder="an address"
          onChange={(e) => setRouter(e.target.value)}
          className={field}
        />
      </label>
      <label>
        <span className="text-soft">AS number</span>
        <input value={as} inputMode="numeric" onChange={(e) => setAs(e.target.value)} className={field} />
      </label>
      <label className="col-span-2">
        <span className="text-soft">accepted without approval</span>
        <input
          value={may}
          placeholder="nothing: all of it waits"
          onChange={(e) => setMay(e.target.value)}
          className={field}
        />
      </label>
      <Choice
        label="Hub of the session"
        value={hub}
        options={network.at.map((a) => [a.hub, `with ${a.hub}`] as const)}
        onChange={setHub}
      />
      <Choice
        label="Segment of the announced prefixes"
        value={segment}
        options={[["", "segment…"], ...estate.segments.map((s) => [s.name, `for ${s.name}`] as const)]}
        onChange={setSegment}
      />
      <div className="col-span-2 flex justify-end">
        <Button type="submit" disabled={router.trim() === "" || !(Number(as) > 0) || segment === ""}>
          Preview changes
        </Button>
      </div>
    </form>
  );
}

/** Whether a hub listens for routers, where, and who speaks with it. */
export function Listening({ hub }: { hub: string }) {
  const sessions = useQuery(sessionsQuery);
  const at = sessions.data?.hubs.find((h) => h.hub === hub);
  const [as, setAs] = useState(at ? String(at.as) : "");
  const [address, setAddress] = useState(at ? at.address.replace(/:\d+$/, "") : "");
  const [open, setOpen] = useState(false);
  const [edits, setEdits] = useState<WiringEdit[]>([]);
  const of = sessions.data?.sessions.filter((s) => s.hub === hub) ?? [];
  return (
    <Part title="BGP">
      {at ? (
        <p className={`text-[13px] ${at.listens ? "" : "text-denied"}`}>
          {at.listens ? (
            <>
              on <span className="font-mono text-xs">{at.address}</span>, AS number {at.as}; it announces
              nothing
            </>
          ) : (
            at.why
          )}
        </p>
      ) : (
        <p className="text-[13px] text-soft">Off: no AS number and listening address set</p>
      )}
      <ul className="text-[13px]">
        {of.map((s) => (
          <li key={s.router} data-session={s.router} className="pt-1">
            <span className="flex items-baseline gap-2">
              <StateGlyph state={s.state === "up" ? "up" : s.state === "down" ? "down" : "waiting"} />
              {s.network}
              <span className="font-mono text-xs text-soft">{s.router}</span>
            </span>
            <span className="block text-soft">
              {stateWords(s)}; {countWords(s)}
            </span>
          </li>
        ))}
      </ul>
      {open ? (
        <form
          className="flex items-end gap-2 pt-1 text-[13px]"
          onSubmit={(event) => {
            event.preventDefault();
            setEdits([{ op: "speak", name: hub, as: Number(as), speaker: address.trim() }]);
          }}
        >
          <label className="flex-1">
            <span className="text-soft">listening address</span>
            <input value={address} onChange={(e) => setAddress(e.target.value)} className={field} />
          </label>
          <label className="w-28">
            <span className="text-soft">AS number</span>
            <input value={as} inputMode="numeric" onChange={(e) => setAs(e.target.value)} className={field} />
          </label>
          <Button type="submit">Preview changes</Button>
        </form>
      ) : (
        <button className="text-[13px] text-accent hover:underline" onClick={() => setOpen(true)}>
          {at ? "change" : "enable…"}
        </button>
      )}
      <Consequence
        edit={{ wiring: edits }}
        verb="Save"
        onDone={() => {
          setEdits([]);
          setOpen(false);
        }}
      />
    </Part>
  );
}
