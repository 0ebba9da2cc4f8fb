import { Link, useLocation } from "react-router";
import type { Schemas } from "../../api/client";
import { placeOf } from "./kinds";

/** An object of the estate, and where it can be looked at. */
export function ThingLink({ thing }: { thing: Schemas["Thing"] }) {
  const { search } = useLocation();
  const to = placeOf(thing, search);
  const words = (
    <>
      <span className="text-soft">{thing.kind}</span> {thing.name}
    </>
  );
  const shape = "inline-block rounded border border-line px-2 py-0.5 text-[13px]";
  if (!to) return <span className={shape}>{words}</span>;
  return (
    <Link to={to} className={`${shape} hover:border-accent hover:text-accent`}>
      {words}
    </Link>
  );
}
