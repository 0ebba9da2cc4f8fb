import type { ButtonHTMLAttributes, InputHTMLAttributes } from "react";
import type { ApiProblem } from "../api/client";
import { Pick } from "./Pick";

type FieldProps = InputHTMLAttributes<HTMLInputElement> & {
  label: string;
  hint?: string | undefined;
  problem?: ReturnType<ApiProblem["at"]>;
};

/** A field with its name above it, and what is wrong with it below. */
export function Field({ label, hint, problem, ...input }: FieldProps) {
  return (
    <label className="block">
      <span className="text-[13px] text-soft">{label}</span>
      <input
        {...input}
        aria-invalid={problem !== undefined}
        className="mt-0.5 w-full rounded border border-line bg-paper px-2.5 py-1.5 outline-offset-0 aria-invalid:border-denied"
      />
      {problem ? (
        <span role="alert" className="block pt-0.5 text-[13px] text-denied">
          {problem.message}
          {problem.fix && <>; {problem.fix}</>}
        </span>
      ) : (
        hint && <span className="block pt-0.5 text-xs text-soft">{hint}</span>
      )}
    </label>
  );
}

/** A button; the main one of a place stands out. */
export function Button({ main, ...button }: ButtonHTMLAttributes<HTMLButtonElement> & { main?: boolean }) {
  return (
    <button
      type="button"
      {...button}
      className={`flex-none rounded px-3 py-1 whitespace-nowrap disabled:opacity-40 ${main ? "bg-accent font-semibold text-sheet" : "border border-line hover:border-accent"}`}
    />
  );
}

/** A label of a workload or network, as it is written. */
export function Label({ name, value, hand }: { name: string; value: string; hand?: boolean }) {
  return (
    <span
      title={hand ? "set by hand" : undefined}
      className={`inline-block rounded-sm border border-line px-1.5 font-mono text-xs leading-[18px] whitespace-nowrap ${hand ? "border-dashed border-accent" : ""}`}
    >
      <span className="text-soft">{name}=</span>
      {value}
    </span>
  );
}

type ChoiceProps = {
  label: string;
  value: string;
  options: readonly (readonly [string, string])[];
  onChange: (value: string) => void;
};

/** One of a few, by name. */
export function Choice(choice: ChoiceProps) {
  return <Pick {...choice} className="max-w-[17rem] rounded bg-paper px-1.5 py-0.5 text-[13px]" />;
}
