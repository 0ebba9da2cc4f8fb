import type { State } from "./estate";

/** What kind of network it is, by shape. */
export function KindGlyph({ kind }: { kind: string }) {
  return (
    <svg
      width="10"
      height="10"
      viewBox="0 0 10 10"
      aria-hidden
      className="flex-none"
      fill="none"
      stroke="currentColor"
      strokeWidth="1.4"
    >
      {kind === "cloud" && (
        <path d="M1 6.5a2.2 2.2 0 0 1 2-2.2 2.4 2.4 0 0 1 4.4.6A1.8 1.8 0 0 1 7.6 8.5H3a2 2 0 0 1-2-2Z" />
      )}
      {kind === "site" && <path d="M1.2 9V4.2L5 1.2l3.8 3V9Z" strokeLinejoin="round" />}
      {kind === "remote" && <path d="M1 8.6h8M2.6 6.6v-4h4.8v4Z" strokeLinejoin="round" />}
      {kind === "partner" && <path d="M5 .9 9.1 5 5 9.1.9 5Z" strokeLinejoin="round" />}
      {kind === "endpoints" && <path d="M5 1.2v7.6M1.2 5h7.6" />}
    </svg>
  );
}

/** How a thing is: nothing where all is well. */
export function StateGlyph({ state }: { state: State }) {
  if (state === "up") return null;
  return (
    <svg
      width="12"
      height="10"
      viewBox="0 0 12 10"
      role="img"
      aria-label={state}
      className="flex-none text-denied"
      fill="none"
      stroke="currentColor"
      strokeLinecap="round"
    >
      {state === "down" ? (
        <path d="M1 5h4M8 5h.01M11 5h.01" strokeWidth="2.2" />
      ) : (
        <path d="M1 5h.01M4.4 5h.01M7.8 5h.01M11 5h.01" strokeWidth="2.2" />
      )}
    </svg>
  );
}
