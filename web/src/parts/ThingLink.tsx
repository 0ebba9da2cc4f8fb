import { Link, useLocation } from "react-router";

type Thing = { kind: string; name: string };

/** The kinds of things that are looked at where they are written. */
const written = new Set([
  "policy",
  "share",
  "publication",
  "expectation",
  "group",
  "service",
  "pool",
  "rulebook",
]);

export const isWritten = (kind: string): boolean => written.has(kind);

/** The address where a thing can be looked at: rules where they are written, all else in the estate. */
export function placeOf(thing: Thing, search: string): string {
  const params = new URLSearchParams(search);
  params.delete("finding");
  if (thing.kind === "mapping") return `/estate/labels?${params}`;
  if (written.has(thing.kind)) return `/rules/${thing.kind}/${thing.name}?${params}`;
  params.set("thing", `${thing.kind}:${thing.name}`);
  return `/estate?${params}`;
}

/** A thing of the estate, and where it can be looked at. */
export function ThingLink({ thing, plain }: { thing: Thing; plain?: boolean }) {
  const { search } = useLocation();
  return (
    <Link
      to={placeOf(thing, search)}
      className={
        plain
          ? "hover:text-accent hover:underline"
          : "inline-block rounded border border-line px-2 py-0.5 text-[13px] hover:border-accent hover:text-accent"
      }
    >
      {!plain && <span className="text-soft">{thing.kind} </span>}
      {thing.name}
    </Link>
  );
}
