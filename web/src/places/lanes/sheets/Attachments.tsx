import { Choice } from "../../../parts/fields";
import { attachState } from "../estate";
import type { Estate, Network, Told } from "../estate";
import { StateGlyph } from "../Glyphs";
import type { Placing } from "./placing";

type AttachProps = {
  estate: Estate;
  told: Told;
  network: Network;
  draft: Placing;
  onChange: (p: Placing) => void;
};

const uplinks = [
  ["", "uplink not set"],
  ["native", "native"],
  ["tunnel", "tunnel"],
  ["line", "dedicated line"],
] as const;

export function Attachments({ estate, told, network, draft, onChange }: AttachProps) {
  const hubs = [...estate.hubs].sort((a, b) => (a.name < b.name ? -1 : 1));
  const free = hubs.filter((h) => !draft.at.some((a) => a.hub === h.name));
  const least = Math.min(...draft.at.map((a) => a.cost));
  const set = (which: number, to: Partial<Placing["at"][number]>) =>
    onChange({ ...draft, at: draft.at.map((a, i) => (i === which ? { ...a, ...to } : a)) });
  return (
    <>
      <ul className="text-[13px]">
        {draft.at.map((a, i) => {
          const now =
            network.at.filter((x) => x.hub === a.hub)[
              draft.at.slice(0, i).filter((x) => x.hub === a.hub).length // of several to one hub, its own
            ] ?? null;
          const { state, why } = attachState(told, network, now);
          return (
            <li key={`${a.hub} ${i}`} data-attached={a.hub} className="py-0.5">
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
                  onChange={(uplink) => set(i, { uplink })}
                />
                <label className="flex items-center gap-1 text-soft">
                  cost
                  <input
                    type="number"
                    min={0}
                    aria-label={`Cost to ${a.hub}`}
                    value={a.cost}
                    onChange={(event) =>
                      set(i, { cost: Math.max(0, Math.trunc(Number(event.target.value))) })
                    }
                    className="w-14 rounded border border-line bg-paper px-1.5 py-0.5 text-ink"
                  />
                </label>
                <button
                  className="rounded border border-line px-1.5 text-[13px] whitespace-nowrap hover:border-denied hover:text-denied"
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
      {draft.at.length === 0 && <p className="text-[13px] text-soft">not attached</p>}
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
