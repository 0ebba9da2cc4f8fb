import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ApiProblem } from "../../api/client";
import { addWindow, dropWindow, windowsQuery } from "../../api/windows";
import type { ChangeWindow } from "../../api/windows";
import { meQuery } from "../../api/people";
import { estateQuery } from "../../api/queries";
import { problemText } from "../../parts/ConsequenceView";
import { Button, Choice, Field } from "../../parts/fields";
import { Tabs } from "./ChangesPlace";

const days = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"] as const;

/** When drafts may be applied, and when they may not. */
export function WindowsPlace() {
  const windows = useQuery(windowsQuery);
  const me = useQuery(meQuery);
  const queries = useQueryClient();
  const drop = useMutation({
    mutationFn: dropWindow,
    onSettled: () => queries.invalidateQueries({ queryKey: ["windows"] }),
  });
  const administers = me.data?.roles.includes("administrator");
  const list = windows.data?.windows ?? [];
  return (
    <section aria-label="Change windows" className="h-full overflow-y-auto px-7 pt-4 pb-8">
      <Tabs />
      <p className="max-w-prose pt-4 pb-2 text-soft">
        A draft that changes flows of a segment is applied in one of its windows, if it has any, and in no
        freeze. In an emergency it can be applied all the same, and stays marked until an owner has reviewed
        it.
      </p>
      {windows.data && list.length === 0 && <p>There are none: drafts can be applied at any time.</p>}
      {list.length > 0 && (
        <table className="text-left">
          <thead className="text-[13px] text-soft">
            <tr className="border-b border-line">
              <th className="py-1 pr-8 font-normal">Segment</th>
              <th className="pr-8 font-normal">When</th>
              <th className="pr-8 font-normal">Why</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {list.map((w) => (
              <tr key={w.id} className="border-b border-line/60">
                <td className="py-1.5 pr-8">{w.segment || "all"}</td>
                <td className="pr-8">{whenWords(w)}</td>
                <td className="pr-8 text-soft">{w.why}</td>
                <td>
                  {administers && (
                    <button className="text-accent hover:underline" onClick={() => drop.mutate(w.id)}>
                      Remove
                    </button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {administers && <Form />}
    </section>
  );
}

const whenWords = (w: ChangeWindow): string =>
  w.first
    ? `frozen from ${w.first} to ${w.last}`
    : `${w.days.join(", ")} ${w.opens} to ${w.closes}, ${w.zone}`;

function Form() {
  const queries = useQueryClient();
  const estate = useQuery(estateQuery);
  const empty = {
    segment: "",
    days: [] as string[],
    opens: "22:00",
    closes: "04:00",
    zone: "UTC",
    first: "",
    last: "",
    why: "",
  };
  const [w, setW] = useState(empty);
  const [freeze, setFreeze] = useState(false);
  const add = useMutation({
    mutationFn: () =>
      addWindow(freeze ? { ...w, days: [], opens: "", closes: "" } : { ...w, first: "", last: "" }),
    onSuccess: async () => {
      setW(empty);
      await queries.invalidateQueries({ queryKey: ["windows"] });
    },
  });
  const at = (field: string) => (add.error instanceof ApiProblem ? add.error.at(field) : undefined);
  const segments = estate.data?.segments ?? [];
  return (
    <form
      aria-label="Add a window"
      className="flex max-w-[28rem] flex-col gap-3 pt-6"
      onSubmit={(event) => {
        event.preventDefault();
        add.mutate();
      }}
    >
      <h2 className="font-serif text-[17px] font-semibold">Add a window or a freeze</h2>
      <span className="flex gap-4">
        <Choice
          label="Kind"
          value={freeze ? "freeze" : "window"}
          options={[
            ["window", "window"],
            ["freeze", "freeze"],
          ]}
          onChange={(k) => setFreeze(k === "freeze")}
        />
        <Choice
          label="Segment"
          value={w.segment}
          options={[["", "all segments"], ...segments.map((s) => [s.name, s.name] as const)]}
          onChange={(segment) => setW({ ...w, segment })}
        />
      </span>
      {freeze ? (
        <span className="grid grid-cols-2 gap-3">
          <Field
            label="First day"
            placeholder="2026-12-20"
            value={w.first}
            problem={at("first")}
            onChange={(e) => setW({ ...w, first: e.target.value })}
          />
          <Field
            label="Last day"
            placeholder="2027-01-02"
            value={w.last}
            onChange={(e) => setW({ ...w, last: e.target.value })}
          />
        </span>
      ) : (
        <>
          <span role="group" aria-label="Days" className="flex gap-3">
            {days.map((d) => (
              <label key={d} className="flex items-center gap-1">
                <input
                  type="checkbox"
                  checked={w.days.includes(d)}
                  onChange={(e) =>
                    setW({ ...w, days: e.target.checked ? [...w.days, d] : w.days.filter((x) => x !== d) })
                  }
                />
                {d}
              </label>
            ))}
          </span>
          {at("days") && <span className="text-[13px] text-denied">{at("days")?.message}</span>}
          <span className="grid grid-cols-2 gap-3">
            <Field
              label="Opens"
              value={w.opens}
              problem={at("opens")}
              onChange={(e) => setW({ ...w, opens: e.target.value })}
            />
            <Field
              label="Closes"
              hint="Before it opens: on the next day"
              value={w.closes}
              problem={at("closes")}
              onChange={(e) => setW({ ...w, closes: e.target.value })}
            />
          </span>
        </>
      )}
      <Field
        label="Time zone"
        value={w.zone}
        problem={at("zone")}
        onChange={(e) => setW({ ...w, zone: e.target.value })}
      />
      <Field label="Why" value={w.why} onChange={(e) => setW({ ...w, why: e.target.value })} />
      {add.error && !(add.error instanceof ApiProblem) && (
        <p className="text-denied">{problemText(add.error)}</p>
      )}
      <div>
        <Button main type="submit" disabled={add.isPending}>
          Add
        </Button>
      </div>
    </form>
  );
}
