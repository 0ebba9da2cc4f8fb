import { Plus, Trash2 } from "lucide-react";
import type { Schemas } from "../../../api/client";
import { Choose } from "../Choose";
import { freeName } from "../kinds";
import { TokenField } from "../TokenField";
import type { EditorProps } from "./Editor";
import { Line, Problem, segmentChoices, Sentence, TextField, withKey } from "./parts";

type Pool = Schemas["Pool"];

/** A firewall pool: its firewalls by hub, what they enforce, and what happens when all of them fail. */
export function PoolEditor({ object: p, rules, problemAt, onWrite }: EditorProps<Pool>) {
  const firewalls = p.firewalls ?? [];
  const put = (i: number, f: Schemas["Firewall"]) =>
    onWrite({ ...p, firewalls: firewalls.map((o, k) => (k === i ? f : o)) });
  const add = () => {
    const taken = [...rules.pools.flatMap((o) => o.firewalls ?? []), ...firewalls].map((f) => f.name);
    onWrite({
      ...p,
      firewalls: [...firewalls, { name: freeName(`${p.name}-1`, taken), hub: rules.hubs[0] ?? "" }],
    });
  };
  return (
    <>
      <Sentence>
        <Line word="Enforces">
          <Choose
            label="Rulebook"
            value={p.rulebook ?? "no rulebook"}
            values={["no rulebook", ...rules.rulebooks.map((b) => b.name)]}
            onChange={(name) => onWrite(withKey(p, "rulebook", name === "no rulebook" ? undefined : name))}
          />
          {!p.rulebook && <span className="pt-0.5 text-soft">passes everything it sees</span>}
        </Line>
        <Line word="on failure">
          <Choose
            label="On failure"
            value={p.onFailure ?? "closed"}
            values={["closed", "open"]}
            onChange={(v) => onWrite(withKey(p, "onFailure", v === "closed" ? undefined : "open"))}
          />
          <span className="pt-0.5 text-soft">
            {p.onFailure === "open" ? "flows pass uninspected" : "flows are blocked"}
          </span>
        </Line>
        <Line word="for segments">
          <TokenField
            id="segments"
            label="segments"
            tokens={p.segments ?? ["all"]}
            choices={[...segmentChoices(rules), { text: "all", hint: "every segment", kind: "" }]}
            placeholder="segment"
            problem={(i) => problemAt(`segments[${i}]`)}
            onChange={(tokens) =>
              onWrite(
                withKey(
                  p,
                  "segments",
                  tokens.at(-1) === "all" ? undefined : tokens.filter((t) => t !== "all"),
                ),
              )
            }
          />
        </Line>
      </Sentence>
      <h2 className="pt-5 font-semibold">Firewalls</h2>
      {firewalls.length === 0 && (
        <p className="text-[13px] text-soft">
          None: flows that this pool inspects are {p.onFailure === "open" ? "passed uninspected" : "blocked"}.
        </p>
      )}
      <ul aria-label="Firewalls" className="mt-1 flex flex-col gap-1.5">
        {firewalls.map((f, i) => (
          <li key={i} className="flex items-start gap-2.5">
            <TextField
              label={`Name of firewall ${i + 1}`}
              value={f.name}
              problem={problemAt(`firewalls[${i}].name`)}
              onChange={(name) => put(i, { ...f, name })}
            />
            <span className="pt-1 text-soft italic">at</span>
            <Choose
              label={`Hub of firewall ${i + 1}`}
              value={f.hub}
              values={rules.hubs}
              placeholder="hub"
              onChange={(hub) => put(i, { ...f, hub })}
            />
            <span className={`pt-1 ${(f.state ?? "healthy") === "healthy" ? "text-soft" : "text-denied"}`}>
              {f.state ?? "healthy"}
            </span>
            <button
              aria-label={`Remove firewall ${f.name}`}
              className="p-1.5 text-soft hover:text-denied"
              onClick={() => onWrite({ ...p, firewalls: firewalls.filter((_, k) => k !== i) })}
            >
              <Trash2 size={14} />
            </button>
          </li>
        ))}
      </ul>
      <button className="mt-2 inline-flex items-center gap-1.5 text-accent hover:underline" onClick={add}>
        <Plus size={14} /> another firewall
      </button>
      <Problem at={["firewalls", "rulebook", "onFailure"]} problemAt={problemAt} />
    </>
  );
}
