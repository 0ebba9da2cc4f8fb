import { useState } from "react";
import { X } from "lucide-react";
import { capital } from "../../parts/wording";
import type { Schemas } from "../../api/client";
import { Combobox } from "../../parts/Combobox";
import type { Choice } from "../../parts/Combobox";

interface Props {
  id: string;
  label: string;
  tokens: string[];
  choices: Choice[];
  /** What is wrong with a token, by its place. */
  problem: (index: number) => Schemas["FieldProblem"] | undefined;
  placeholder: string;
  /** What can be made where a token is not known. */
  make?: { noun: string; unknown: (token: string) => boolean; onMake: (token: string) => void };
  onChange: (tokens: string[]) => void;
}

/** How many proposals a token field shows. */
const shown = 12;

/** A list of names, each a token that can be taken away; more are typed at the end. */
export function TokenField(p: Props) {
  const [typed, setTyped] = useState("");
  const wanted = typed.trim().toLowerCase();
  const choices = p.choices
    .filter(
      (c) => !p.tokens.includes(c.text) && (c.text.includes(wanted) || c.hint.toLowerCase().includes(wanted)),
    )
    .sort((a, b) => Number(b.text.startsWith(wanted)) - Number(a.text.startsWith(wanted)))
    .slice(0, shown);
  const add = (text: string) => {
    const words = text.split(",").map((w) => w.trim().toLowerCase());
    const fresh = words.filter((w) => w !== "" && !p.tokens.includes(w));
    setTyped("");
    if (fresh.length > 0) p.onChange([...p.tokens, ...fresh]);
  };
  const problems = p.tokens.map((_, i) => p.problem(i));
  const first = problems.find(Boolean);
  return (
    <span className={`inline-flex max-w-full flex-col items-start align-top ${first ? "min-w-72" : ""}`}>
      <span className="inline-flex flex-wrap items-center gap-1 rounded-md border border-line bg-sheet px-1.5 py-0.5 focus-within:border-accent">
        {p.tokens.map((token, i) => (
          <span
            key={token}
            data-bad={problems[i] !== undefined || undefined}
            className="inline-flex items-center gap-1 rounded bg-wash px-1.5 leading-6 data-bad:outline-2 data-bad:outline-denied"
          >
            {token}
            <button
              type="button"
              aria-label={`Remove ${token} from ${p.label}`}
              className="text-soft hover:text-denied"
              onClick={() => p.onChange(p.tokens.filter((_, k) => k !== i))}
            >
              <X size={12} />
            </button>
          </span>
        ))}
        <Combobox
          id={p.id}
          label={p.label}
          value={typed}
          choices={choices}
          placeholder={p.tokens.length === 0 ? p.placeholder : "add"}
          invalid={first !== undefined}
          describedBy={first ? `${p.id}-problem` : undefined}
          className="w-20 font-sans text-sm"
          onType={setTyped}
          onCommit={add}
          onKey={(event) => {
            if (event.key === "Backspace" && typed === "") p.onChange(p.tokens.slice(0, -1));
            if (event.key === ",") {
              event.preventDefault();
              add(typed);
            }
          }}
        />
      </span>
      {p.tokens
        .filter((t) => p.make?.unknown(t))
        .map((t) => (
          <button
            key={t}
            type="button"
            className="mt-0.5 font-sans text-[13px] text-accent hover:underline"
            onClick={() => p.make?.onMake(t)}
          >
            Add {p.make?.noun} {t}…
          </button>
        ))}
      {first && (
        <span
          id={`${p.id}-problem`}
          role="alert"
          className="mt-0.5 w-0 min-w-full font-sans text-[13px] leading-snug text-denied"
        >
          {capital(first.message)}
          {first.fix && <>; {first.fix}</>}
        </span>
      )}
    </span>
  );
}
