import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { heldQuery } from "../../api/targets";
import type { Target } from "../../api/targets";
import type { Schemas } from "../../api/client";
import { problemText } from "../../parts/ConsequenceView";
import { ThingLink } from "../../parts/ThingLink";
import { counted } from "../../parts/wording";
import { Lines } from "./Lines";

const kinds: Record<Target["kind"], string> = {
  segment: "match list, the same at every hub",
  hub: "hub",
  pool: "firewall pool",
  network: "network",
};

/** What one target has to hold, list by list. */
export function HeldView({ kind, name }: { kind: string; name: string }) {
  const held = useQuery(heldQuery(kind, name));
  if (held.error) {
    return (
      <p role="alert" className="text-denied">
        {problemText(held.error)}
      </p>
    );
  }
  const t = held.data;
  if (!t) return null;
  const sets = new Map(t.sets.map((s) => [s.name, s.prefixes]));
  return (
    <>
      <header className="flex items-baseline gap-3">
        <h1 className="font-serif text-[22px] font-semibold">{t.name}</h1>
        <span className="text-soft">
          {kinds[t.kind]}
          {t.provider && ` at ${t.provider}, account ${t.account}`}
        </span>
        <span className="ml-auto">
          <ThingLink thing={{ kind: t.kind, name: t.name }} />
        </span>
      </header>
      {t.observed && (
        <p className="pt-2">
          Account {t.account} is observed only: none of this is written.{" "}
          <Link to="/targets/observed" className="text-accent hover:underline">
            What its lists do
          </Link>
        </p>
      )}
      {t.listings.map((l) => (
        <Listing key={l.on} target={t} listing={l} sets={sets} />
      ))}
      {t.listings.length === 0 && <p className="pt-3 text-soft">It holds no lists.</p>}
    </>
  );
}

interface ListingProps {
  target: Target;
  listing: Schemas["NativeListing"];
  sets: Map<string, string[]>;
}

function Listing({ target, listing, sets }: ListingProps) {
  const more = listing.bound > 0 && listing.bound < listing.lines.length;
  return (
    <section aria-label={listing.on || target.name} className="pt-5">
      <h2 className="flex items-baseline gap-3 border-b border-line pb-1">
        <span className="font-semibold">{titleOf(target, listing)}</span>
        <span className="text-[13px] text-soft">
          {counted(listing.lines.length, "line")}
          {listing.limit > 0 && ` of at most ${listing.limit}`}
          {more && `; it cannot be fewer than ${listing.bound}`}
        </span>
      </h2>
      {listing.bears.length > 0 && (
        <p className="flex flex-wrap gap-1.5 pt-1.5 text-[13px]">
          <span className="text-soft">On</span>
          {listing.bears.map((w) => (
            <ThingLink key={w} thing={{ kind: "workload", name: w }} plain />
          ))}
        </p>
      )}
      {listing.lines.length === 0 ? (
        <p className="pt-1.5 text-soft">{emptyWords(target, listing)}</p>
      ) : (
        <Lines
          lines={listing.lines}
          sets={sets}
          {...(target.provider === "cirra" ? { own: "itself" } : {})}
        />
      )}
    </section>
  );
}

function titleOf(t: Target, l: Schemas["NativeListing"]): string {
  if (l.on === "routes") return "Routes";
  if (t.kind === "pool") return l.on ? `Rulebook ${l.on}` : "No rulebook";
  if (t.kind !== "network")
    return l.on ? l.on[0]?.toUpperCase() + l.on.slice(1) : "Rules, the first that matches decides";
  if (l.on === "*") return "Addresses outside its subnets";
  if (t.provider === "cirra") return `List ${l.on}`;
  return l.on ? `Subnet ${l.on}` : "Rules of the network";
}

function emptyWords(t: Target, l: Schemas["NativeListing"]): string {
  if (t.kind === "pool") return l.on ? "No rules: everything is dropped." : "Its firewalls pass everything.";
  if (t.provider === "cirra") return "No entries: nothing passes. Machines bear it until they are known.";
  return t.kind === "segment" ? "No rules: everything is denied." : "Nothing.";
}
