import { ArrowDown, ArrowUp, Plus, Trash2 } from "lucide-react";
import type { KeyboardEvent, ReactNode } from "react";
import type { Schemas } from "../../../api/client";
import { Choose } from "../Choose";
import { moved } from "../drafts";
import type { Rules } from "../kinds";
import type { EditorProps, ProblemAt } from "./Editor";
import { Problem, ServicesField } from "./parts";
import { Terms } from "./Terms";

type Rule = Schemas["Rule"];

interface Props {
  rules: Rule[];
  all: Rules;
  actions: Rule["action"][];
  problemAt: ProblemAt;
  onChange: (rules: Rule[]) => void;
  onMake: EditorProps<unknown>["onMake"];
}

/** Rules in their order, each as a sentence: inspect web by watch. */
export function RuleList({ rules, all, actions, problemAt, onChange, onMake }: Props) {
  const pools = all.pools.map((p) => p.name);
  const put = (i: number, rule: Rule) => onChange(rules.map((r, k) => (k === i ? rule : r)));
  return (
    <Ordered
      items={rules}
      noun="rule"
      onChange={onChange}
      onAdd={() => onChange([...rules, { services: [], action: "deny" }])}
      row={(rule, i) => {
        const at = `rules[${i}]`;
        return (
          <>
            <div className="flex flex-wrap items-start gap-2 font-serif text-[16px]">
              <span className="w-[6.4rem] flex-none pt-0.5 text-right text-soft italic">
                {i + 1} · {i === 0 ? "first" : "then"}
              </span>
              <Choose
                label={`Action of rule ${i + 1}`}
                value={rule.action}
                values={actions}
                bold
                onChange={(action) => put(i, withAction(rule, action as Rule["action"], pools[0]))}
              />
              <ServicesField
                id={`services-${i}`}
                label={`services of rule ${i + 1}`}
                value={rule.services}
                at={`${at}.services`}
                rules={all}
                problemAt={problemAt}
                onChange={(services) => put(i, { ...rule, services })}
                onMake={onMake}
              />
              {rule.action === "inspect" && (
                <span className="inline-flex items-start gap-2">
                  <span className="pt-0.5 text-soft italic">by</span>
                  <Choose
                    label={`Pool of rule ${i + 1}`}
                    value={rule.pool ?? ""}
                    values={pools}
                    placeholder="pool"
                    onChange={(pool) => put(i, { ...rule, pool })}
                  />
                </span>
              )}
              <Terms
                of={`rule ${i + 1}`}
                value={rule}
                at={`${at}.`}
                brief
                problemAt={problemAt}
                onChange={(next) => put(i, next)}
              />
            </div>
            {rule.description && <p className="mt-1 pl-[7rem] text-[13px] text-soft">{rule.description}</p>}
            <div className="pl-[7rem]">
              <Problem at={[at, `${at}.pool`, `${at}.action`, `${at}.services`]} problemAt={problemAt} />
            </div>
          </>
        );
      }}
    />
  );
}

/** A rule with another action; one that inspects needs a pool, and no other has one. */
export function withAction(rule: Rule, action: Rule["action"], pool: string | undefined): Rule {
  const next = { ...rule, action };
  delete next.pool;
  return action === "inspect" && (rule.pool ?? pool) ? { ...next, pool: rule.pool ?? pool ?? "" } : next;
}

interface OrderedProps<T> {
  items: T[];
  noun: string;
  row: (item: T, index: number) => ReactNode;
  onChange: (items: T[]) => void;
  onAdd: () => void;
}

/** How many items of a list are drawn at first: the rest when it is asked for. */
export const drawnAtMost = 200;

/** A list whose order decides: items are dragged, or moved with Alt and an arrow key. */
export function Ordered<T>({ items, noun, row, onChange, onAdd }: OrderedProps<T>) {
  const move = (from: number, to: number) => onChange(moved(items, from, to));
  const onKey = (i: number) => (event: KeyboardEvent) => {
    if (!event.altKey || (event.key !== "ArrowUp" && event.key !== "ArrowDown")) return;
    event.preventDefault();
    move(i, i + (event.key === "ArrowUp" ? -1 : 1));
  };
  return (
    <>
      <ol className="mt-5 flex flex-col gap-2.5">
        {items.slice(0, drawnAtMost).map((item, i) => (
          <li
            key={i}
            aria-label={`Rule ${i + 1}`}
            onKeyDown={onKey(i)}
            onDragOver={(event) => event.preventDefault()}
            onDrop={(event) => {
              const from = Number(event.dataTransfer.getData("text/plain"));
              if (Number.isInteger(from)) move(from, i);
            }}
            className="flex gap-2 rounded-md border border-line px-3 py-2"
          >
            <div className="min-w-0 flex-1">{row(item, i)}</div>
            <span className="flex flex-none items-start gap-1 pt-1">
              <span
                draggable
                title="drag to move; or Alt with an arrow key"
                aria-hidden
                onDragStart={(event) => event.dataTransfer.setData("text/plain", String(i))}
                className="cursor-grab px-1 leading-6 text-soft select-none"
              >
                ⠿
              </span>
              <Tool label={`Move ${noun} ${i + 1} up`} disabled={i === 0} onClick={() => move(i, i - 1)}>
                <ArrowUp size={14} />
              </Tool>
              <Tool
                label={`Move ${noun} ${i + 1} down`}
                disabled={i === items.length - 1}
                onClick={() => move(i, i + 1)}
              >
                <ArrowDown size={14} />
              </Tool>
              <Tool
                label={`Remove ${noun} ${i + 1}`}
                onClick={() => onChange(items.filter((_, k) => k !== i))}
              >
                <Trash2 size={14} />
              </Tool>
            </span>
          </li>
        ))}
      </ol>
      {items.length > drawnAtMost && (
        <p className="mt-2 text-soft">
          and {items.length - drawnAtMost} more rules, which are kept as they are
        </p>
      )}
      <button
        type="button"
        className="mt-3 inline-flex items-center gap-1.5 text-accent hover:underline"
        onClick={onAdd}
      >
        <Plus size={14} /> another {noun}
      </button>
    </>
  );
}

function Tool({
  label,
  disabled,
  onClick,
  children,
}: {
  label: string;
  disabled?: boolean;
  onClick: () => void;
  children: ReactNode;
}) {
  return (
    <button
      type="button"
      aria-label={label}
      title={label}
      disabled={disabled}
      onClick={onClick}
      className="rounded p-1 text-soft hover:bg-wash hover:text-ink disabled:opacity-30"
    >
      {children}
    </button>
  );
}
