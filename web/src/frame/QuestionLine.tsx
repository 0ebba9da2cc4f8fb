import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import type { KeyboardEvent } from "react";
import { ApiProblem } from "../api/client";
import { answerQuery, completionQuery } from "../api/queries";
import type { Question } from "../api/queries";
import { Combobox } from "../parts/Combobox";
import { isAsked, questionOf, useUrlState } from "./urlState";
import { askedBefore, remember } from "./history";

const fields = ["from", "to", "on"] as const;
type Field = (typeof fields)[number];
const prompts: Record<Field, string> = {
  from: "workload, group",
  to: "group, internet",
  on: "service, tcp/443",
};

/** The question line: from where, to where, on what. Enter asks. */
export function QuestionLine() {
  const { params, change } = useUrlState();
  const asked = questionOf(params);
  // Typing is kept beside the address, and follows it when it changes.
  const address = JSON.stringify(asked);
  const [typed, setTyped] = useState({ address, question: asked });
  const question = typed.address === address ? typed.question : asked;
  const setQuestion = (q: Question) => setTyped({ address, question: q });

  const inputs = useRef<Partial<Record<Field, HTMLInputElement | null>>>({});
  const [active, setActive] = useState<Field>("from");
  const [past, setPast] = useState(-1);
  const proposals = useQuery(completionQuery(active, question[active]));
  // Until the proposals for what is typed now are there, those for what was typed
  // before stay if they still fit: an arrow and Enter must never take another.
  const fitting = (proposals.data ?? []).filter(
    (c) => !proposals.isPlaceholderData || c.text.includes(question[active].trim().toLowerCase()),
  );
  const answer = useQuery(answerQuery(asked));
  const problem = answer.error instanceof ApiProblem ? answer.error : null;

  useEffect(() => {
    const onSlash = (event: globalThis.KeyboardEvent) => {
      const target = event.target as HTMLElement;
      if (event.key !== "/" || target.closest("input, textarea, [contenteditable]")) return;
      event.preventDefault();
      inputs.current.from?.focus();
      inputs.current.from?.select();
    };
    window.addEventListener("keydown", onSlash);
    return () => window.removeEventListener("keydown", onSlash);
  }, []);

  const ask = (q: Question) => {
    remember(q);
    setPast(-1);
    change({ from: q.from.trim(), to: q.to.trim(), on: q.on.trim(), row: null, col: null, at: null });
    (document.activeElement as HTMLElement | null)?.blur();
  };

  const commit = (field: Field, text: string) => {
    const next = { ...question, [field]: text };
    setQuestion(next);
    const missing = fields.find((f) => next[f].trim() === "");
    if (missing) {
      inputs.current[missing]?.focus();
    } else if (field === "on" || isAsked(asked)) {
      ask(next);
    } else {
      const after = fields[fields.indexOf(field) + 1] ?? "on";
      inputs.current[after]?.focus();
      inputs.current[after]?.select();
    }
  };

  // With Alt, the arrows go through what was asked before.
  const onKey = (event: KeyboardEvent) => {
    if (!event.altKey || (event.key !== "ArrowUp" && event.key !== "ArrowDown")) return;
    event.preventDefault();
    const list = askedBefore();
    const at = Math.max(-1, Math.min(list.length - 1, past + (event.key === "ArrowUp" ? 1 : -1)));
    setPast(at);
    const found = list[at];
    if (found) setQuestion(found);
  };

  return (
    <form
      role="search"
      aria-label="Question"
      className="flex min-w-0 flex-1 items-baseline gap-2 rounded-lg border border-line bg-sheet px-4 py-2 font-serif text-[17px] focus-within:border-accent max-[960px]:order-last max-[960px]:basis-full"
      onSubmit={(event) => event.preventDefault()}
    >
      {fields.map((field) => (
        <label
          key={field}
          className="flex min-w-0 flex-1 items-baseline gap-2 first:flex-[1.15] last:flex-[0.8]"
        >
          <span className="text-soft italic">{field}</span>
          <Combobox
            id={`question-${field}`}
            label={field}
            value={question[field]}
            choices={active === field ? fitting : []}
            placeholder={prompts[field]}
            invalid={problem?.at(field) !== undefined}
            describedBy={problem?.at(field) ? "question-problem" : undefined}
            className="flex-1 font-semibold [&_input]:placeholder:text-[16px] [&_input]:placeholder:font-normal"
            inputRef={(element) => {
              inputs.current[field] = element;
            }}
            onType={(text) => {
              setActive(field);
              setQuestion({ ...question, [field]: text });
            }}
            onCommit={(text) => commit(field, text)}
            onKey={onKey}
          />
        </label>
      ))}
      <kbd
        className="rounded border border-line px-1.5 font-mono text-xs text-soft"
        title="Press / to ask, Alt ↑ for earlier questions"
      >
        /
      </kbd>
    </form>
  );
}
