import { useQuery } from "@tanstack/react-query";
import { ApiProblem } from "../../../api/client";
import type { Schemas } from "../../../api/client";
import { membersQuery } from "../../../api/queries";
import { useDebounced } from "../../../parts/useDebounced";
import { Choose } from "../Choose";
import { TokenField } from "../TokenField";
import type { EditorProps } from "./Editor";
import { Line, Problem, Sentence, TextField, withKey } from "./parts";

type Group = Schemas["Group"];

/** A group: whoever fits any of its selections, and is in the group around it if there is one. */
export function GroupEditor({ object: g, rules, problemAt, onWrite }: EditorProps<Group>) {
  const names = (
    key: "networks" | "subnets" | "exits" | "prefixes",
    word: string,
    choices: string[],
    hint: string,
  ) => (
    <Line word={word}>
      <TokenField
        id={key}
        label={key}
        tokens={g[key] ?? []}
        choices={choices.map((text) => ({ text, hint: "", kind: "" }))}
        placeholder={hint}
        problem={(i) => problemAt(`${key}[${i}]`)}
        onChange={(tokens) => onWrite(withKey(g, key, tokens))}
      />
    </Line>
  );
  return (
    <>
      <Sentence>
        <Line word="Workloads with">
          <TextField
            label="Label selector"
            wide
            value={g.match ?? ""}
            placeholder="app=portal, env in (prod, test), !legacy"
            problem={problemAt("match")}
            onChange={(match) => onWrite(withKey(g, "match", match))}
          />
        </Line>
        {names(
          "networks",
          "or in networks",
          rules.networks.map((n) => n.name),
          "network",
        )}
        <Line word="or networks with">
          <TextField
            label="Network selector"
            wide
            value={g.networkMatch ?? ""}
            placeholder="tier=edge"
            problem={problemAt("networkMatch")}
            onChange={(match) => onWrite(withKey(g, "networkMatch", match))}
          />
        </Line>
        {names(
          "subnets",
          "or in subnets",
          rules.networks.flatMap((n) => n.subnets),
          "network/subnet",
        )}
        {names("prefixes", "or addresses", [], "10.1.0.0/24")}
        {names(
          "exits",
          "or behind exits",
          rules.exits.map((x) => x.name),
          "exit",
        )}
        <Line word="within">
          <Choose
            label="Within"
            value={g.within ?? "no group"}
            values={["no group", ...rules.groups.map((o) => o.name).filter((n) => n !== g.name)]}
            onChange={(within) => onWrite(withKey(g, "within", within === "no group" ? undefined : within))}
          />
        </Line>
      </Sentence>
      <Problem at={["within"]} problemAt={problemAt} />
    </>
  );
}

/** What is wrong with a selector, while it is typed. */
export function useSelectorProblem(match: string): Schemas["FieldProblem"] | undefined {
  const members = useQuery(membersQuery(useDebounced(match, 120)));
  return match !== "" && members.error instanceof ApiProblem ? members.error.at("match") : undefined;
}
