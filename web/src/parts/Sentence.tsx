import { Link, useLocation } from "react-router";
import type { Schemas } from "../api/client";
import { isWritten, placeOf } from "./ThingLink";

/** A sentence whose names are links to the things that they name. */
export function Sentence({ tokens }: { tokens: Schemas["Token"][] }) {
  return (
    <>
      {tokens.map((t, i) => (
        <Name key={i} token={t} />
      ))}
    </>
  );
}

/** A name in a running text: a link where its thing has a place of its own. */
export function Name({ token }: { token: Schemas["Token"] }) {
  const { search } = useLocation();
  if (!token.kind) return <>{token.text}</>;
  if (isWritten(token.kind)) {
    return (
      <Link
        to={placeOf({ kind: token.kind, name: token.text }, search)}
        className="font-semibold underline decoration-line decoration-2 underline-offset-3 hover:decoration-accent"
      >
        {token.text}
      </Link>
    );
  }
  return <span className="font-semibold">{token.text}</span>;
}
