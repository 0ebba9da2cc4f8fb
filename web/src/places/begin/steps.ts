import type { Schemas } from "../../api/client";

export interface Step {
  title: string;
  what: string;
  done: boolean;
  to: string | null; // where it is done; null where no place does it yet
}

/** What there is to do, in the order of the work. */
export function stepsOf(e: Schemas["Estate"], tagged: Schemas["Tagged"] | undefined): Step[] {
  const count = (list: string) => e.counts[list] ?? 0;
  return [
    {
      title: "Connect",
      what: "an account of a cloud, or your sites",
      done: count("accounts") > 0,
      to: "/estate?connect=1",
    },
    {
      title: "Read",
      what: "what networks and workloads it has",
      done: count("workloads") > 0,
      to: "/estate",
    },
    {
      title: "Label",
      what: "sort the tags of the teams into labels that rules can use",
      done: tagged !== undefined && tagged.unlabelled === 0 && count("workloads") > 0,
      to: "/estate/labels",
    },
    { title: "Group", what: "workloads by their labels", done: count("groups") > 0, to: "/estate?group=1" },
    { title: "Place", what: "networks in segments", done: count("segments") > 0, to: "/lanes" },
    {
      title: "Rule",
      what: "which flows may pass, and which are inspected",
      done: count("policies") > 0,
      to: "/rules",
    },
    { title: "Check", what: "the outcome of every flow", done: count("policies") > 0, to: "/board" },
  ];
}
