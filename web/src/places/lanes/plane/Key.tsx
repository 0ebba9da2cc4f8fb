import { Hourglass } from "lucide-react";
import { KindGlyph, StateGlyph } from "../Glyphs";
import type { Detail } from "./layout";

const kinds = [
  ["cloud", "cloud"],
  ["site", "site"],
  ["remote", "remote access"],
  ["partner", "partner"],
] as const;

/** What the shapes mean. */
export function Key({ detail, unforced }: { detail: Detail; unforced: boolean }) {
  if (detail === "far") {
    return (
      <p className="border-t border-line px-5 py-2 text-xs text-soft max-[960px]:hidden">
        Numbers: networks attached there; <span className="font-semibold text-denied">heavy</span> where one
        is unhealthy. Ring: a firewall pool inspects flows of the lane at that hub. Press + for names.
      </p>
    );
  }
  return (
    <ul
      aria-label="Key"
      className="flex flex-wrap gap-x-5 gap-y-1 border-t border-line px-5 py-2 text-xs text-soft max-[960px]:hidden"
    >
      {kinds.map(([kind, words]) => (
        <li key={kind} className="flex items-center gap-1.5">
          <KindGlyph kind={kind} /> {words}
        </li>
      ))}
      <li className="flex items-center gap-1.5">
        <StateGlyph state="down" /> down
      </li>
      {unforced && (
        <li className="flex items-center gap-1.5">
          <Hourglass size={11} className="text-denied" aria-hidden /> applied, and not in force there yet
        </li>
      )}
      <li className="flex items-center gap-1.5">
        <svg width="14" height="12" viewBox="0 0 14 12" fill="none" aria-hidden>
          <path d="M0 6h14" stroke="var(--soft)" strokeWidth="2" />
          <circle cx="7" cy="6" r="4.4" fill="var(--paper)" stroke="var(--inspected)" strokeWidth="2" />
        </svg>
        pool that inspects flows of the lane
      </li>
      <li className="flex items-center gap-1.5">
        <svg width="16" height="8" viewBox="0 0 16 8" aria-hidden>
          <path d="M0 4h16" stroke="var(--soft)" strokeWidth="1.6" strokeDasharray="4 3" />
        </svg>
        peering, bypasses hubs
      </li>
      <li className="flex items-center gap-1.5">
        <svg width="8" height="12" viewBox="0 0 8 12" aria-hidden fill="none">
          <path d="M1 1h3q3 0 3 3v4q0 3 -3 3H1" stroke="var(--accent)" strokeWidth="1.8" />
        </svg>
        shares
      </li>
      <li className="flex items-center gap-1.5">
        <svg width="9" height="12" viewBox="0 0 9 12" aria-hidden fill="none" stroke="var(--soft)">
          <path d="M4.5 1v9m-3 -3l3 3l3 -3" strokeWidth="1.5" />
        </svg>
        exit
      </li>
      <li>numbers: costs above 1</li>
    </ul>
  );
}
