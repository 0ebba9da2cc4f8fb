import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useEffect, useMemo, useRef, useState } from "react";
import type { KeyboardEvent } from "react";
import { useLocation, useNavigate } from "react-router";
import { rulesQuery } from "../api/queries";
import { useAdd } from "../places/rules/AddMenu";
import { addressOf, kinds, ruleKinds } from "../places/rules/kinds";

interface Command {
  words: string;
  hint: string;
  run: () => void;
}

/** How many commands are shown at once. */
const shownAtMost = 14;

/** Everything that can be opened or added, by name; Ctrl or Cmd with K opens it. */
export function Palette() {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const onKey = (event: globalThis.KeyboardEvent) => {
      if (event.key.toLowerCase() !== "k" || !(event.ctrlKey || event.metaKey)) return;
      event.preventDefault();
      setOpen(true);
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/25" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-24 left-1/2 z-50 w-[34rem] max-w-[94vw] -translate-x-1/2 rounded-lg border border-line bg-sheet shadow-xl"
        >
          <Dialog.Title className="sr-only">Commands</Dialog.Title>
          <Commands onDone={() => setOpen(false)} />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Commands({ onDone }: { onDone: () => void }) {
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const list = useRef<HTMLUListElement>(null);
  const all = useCommands();
  const wanted = text.trim().toLowerCase();
  const found = useMemo(() => {
    const words = wanted.split(/\s+/);
    const fits = (c: Command) => words.every((w) => `${c.words} ${c.hint}`.toLowerCase().includes(w));
    return all.filter(fits).slice(0, shownAtMost);
  }, [all, wanted]);
  const run = (c: Command | undefined) => {
    if (!c) return;
    onDone();
    c.run();
  };
  const onKey = (event: KeyboardEvent) => {
    if (event.key === "ArrowDown" || event.key === "ArrowUp") {
      event.preventDefault();
      setAt((n) => Math.max(0, Math.min(found.length - 1, n + (event.key === "ArrowDown" ? 1 : -1))));
    } else if (event.key === "Enter") {
      event.preventDefault();
      run(found[at]);
    }
  };
  return (
    <>
      <input
        aria-label="Find a command"
        role="combobox"
        aria-expanded
        aria-controls="commands"
        aria-activedescendant={found[at] ? `command-${at}` : undefined}
        placeholder="add policy, open a rule, go to a place…"
        value={text}
        autoFocus
        onChange={(event) => {
          setText(event.target.value);
          setAt(0);
        }}
        onKeyDown={onKey}
        className="w-full border-b border-line bg-transparent px-4 py-3 outline-none"
      />
      <ul
        id="commands"
        ref={list}
        role="listbox"
        aria-label="Commands"
        className="max-h-96 overflow-y-auto py-1"
      >
        {found.map((c, i) => (
          <li
            key={`${c.words} ${c.hint}`}
            id={`command-${i}`}
            role="option"
            aria-selected={i === at}
            onMouseMove={() => setAt(i)}
            onClick={() => run(c)}
            className="flex cursor-default items-baseline gap-3 px-4 py-1 aria-selected:bg-wash"
          >
            <span className="min-w-0 flex-1 truncate">{c.words}</span>
            <span className="text-xs text-soft">{c.hint}</span>
          </li>
        ))}
        {found.length === 0 && <li className="px-4 py-1 text-soft">Nothing matches.</li>}
      </ul>
    </>
  );
}

const places = ["Estate", "Lanes", "Rules", "Changes", "Board", "Findings"];

function useCommands(): Command[] {
  const rules = useQuery(rulesQuery);
  const navigate = useNavigate();
  const { search } = useLocation();
  const add = useAdd();
  const go = (pathname: string) => () => void navigate({ pathname, search });
  const out: Command[] = [];
  for (const kind of ruleKinds) {
    out.push({ words: `Add ${kinds[kind].one}`, hint: "", run: () => void add(kind) });
    if (kind === "policy") {
      out.push({ words: "Add guardrail", hint: "", run: () => void add("policy", undefined, "guardrail") });
    }
  }
  for (const place of places)
    out.push({ words: `Go to ${place}`, hint: "place", run: go(`/${place.toLowerCase()}`) });
  out.push({ words: "Find rules by what they do", hint: "Rules", run: go("/rules/find") });
  out.push({ words: "Change several rules at once", hint: "Rules", run: go("/rules/several") });
  out.push({ words: "What if one thing fails", hint: "Findings", run: go("/findings/failures") });
  if (!rules.data) return out;
  for (const kind of ruleKinds) {
    for (const o of kinds[kind].list(rules.data)) {
      out.push({ words: o.name, hint: kinds[kind].one, run: go(addressOf(kind, o.name)) });
    }
  }
  return out;
}
