import { useState } from "react";
import { Link, useLocation } from "react-router";
import type { Schemas } from "../../../api/client";
import type { WiringEdit } from "../../../api/queries";
import { Button, Choice } from "../../../parts/fields";
import { placeOf } from "../../../parts/ThingLink";
import { counted } from "../../../parts/wording";
import { Consequence } from "../../../parts/Consequence";
import type { Estate } from "../estate";
import { Sheet } from "./Sheet";

type Share = Schemas["LaneShare"];

/** The shares of a segment, or between two; each may show addresses under others. */
export function SharesSheet({ estate, of }: { estate: Estate; of: string[] }) {
  const [edits, setEdits] = useState<WiringEdit[]>([]);
  const [open, setOpen] = useState("");
  const { search } = useLocation();
  const shares = estate.shares
    .filter((s) => of.every((segment) => s.owner === segment || s.guest === segment))
    .sort((a, b) => (a.name < b.name ? -1 : 1));
  return (
    <Sheet title={of.join(" and ")} under={`${counted(shares.length, "share")}, from owner to guest`}>
      {shares.map((s) => (
        <section
          key={s.name}
          aria-label={s.name}
          className="border-t border-line py-1.5 text-[13px] first:border-0"
        >
          <div className="flex items-baseline gap-2">
            <Link
              className="min-w-0 flex-1 truncate font-semibold hover:text-accent"
              title="Its sides and rules"
              to={placeOf({ kind: "share", name: s.name }, search)}
            >
              {s.name}
            </Link>
            <span className="flex-none text-soft">
              {s.owner} {s.direction === "both" ? "↔" : "→"} {s.guest}
              {!s.enabled && <span className="text-denied"> off</span>}
            </span>
            <button
              aria-expanded={open === s.name}
              className="flex-none rounded border border-line px-1.5 text-[13px] whitespace-nowrap hover:border-accent hover:text-accent"
              onClick={() => setOpen(open === s.name ? "" : s.name)}
            >
              translate addresses…
            </button>
          </div>
          <ShownTable share={s} onEdit={setEdits} />
          {open === s.name && <ShowForm share={s} onEdit={setEdits} />}
          {edits[0]?.name === s.name && (
            <Consequence
              edit={{ wiring: edits }}
              verb="Save"
              onDone={() => setEdits([])}
              onRemedy={(w) => setEdits([...edits, ...w.edits])}
            />
          )}
        </section>
      ))}
    </Sheet>
  );
}

/** Who sees addresses of a share's segments. */
const seer = (s: Share, segment: string) => (segment === s.owner ? s.guest : s.owner);

function ShownTable({ share, onEdit }: { share: Share; onEdit: (edits: WiringEdit[]) => void }) {
  if (share.show.length === 0) return null;
  return (
    <ul aria-label={`Translations of ${share.name}`} className="pt-0.5 pl-4">
      {share.show.map((t) => (
        <li key={t.segment + t.inside} className="flex items-baseline gap-1.5">
          <span className="min-w-0 flex-1">
            {seer(share, t.segment)} <span className="text-soft">sees</span>{" "}
            <span className="font-mono text-xs">{t.inside}</span> <span className="text-soft">as</span>{" "}
            <span className="font-mono text-xs">{t.outside}</span>
          </span>
          <button
            className="flex-none rounded border border-line px-1.5 text-[13px] whitespace-nowrap hover:border-denied hover:text-denied"
            onClick={() => onEdit([{ op: "unshow", name: share.name, segment: t.segment, prefix: t.inside }])}
          >
            remove
          </button>
        </li>
      ))}
    </ul>
  );
}

function ShowForm({ share, onEdit }: { share: Share; onEdit: (edits: WiringEdit[]) => void }) {
  const [segment, setSegment] = useState(share.owner);
  const [inside, setInside] = useState("");
  const [outside, setOutside] = useState("");
  const field = "w-36 rounded border border-line bg-paper px-1.5 py-0.5 font-mono text-xs text-ink";
  return (
    <form
      className="flex flex-wrap items-center gap-1.5 pt-1.5 text-[13px] text-soft"
      onSubmit={(event) => {
        event.preventDefault();
        onEdit([{ op: "show", name: share.name, segment, prefix: inside.trim(), outside: outside.trim() }]);
      }}
    >
      show
      <input
        aria-label={`Inside, of ${share.name}`}
        placeholder="10.1.0.0/24"
        value={inside}
        onChange={(event) => setInside(event.target.value)}
        className={field}
      />
      of
      <Choice
        label={`Segment, of ${share.name}`}
        value={segment}
        options={[share.owner, share.guest].map((s) => [s, s] as const)}
        onChange={setSegment}
      />
      to {seer(share, segment)} as
      <input
        aria-label={`Outside, of ${share.name}`}
        placeholder="100.64.0.0/24"
        value={outside}
        onChange={(event) => setOutside(event.target.value)}
        className={field}
      />
      <Button type="submit" disabled={inside.trim() === "" || outside.trim() === ""}>
        Preview changes
      </Button>
    </form>
  );
}
