import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import type { FormEvent } from "react";
import { ApiProblem } from "../../api/client";
import type { Schemas } from "../../api/client";
import { connect, everything } from "../../api/queries";
import { Button, Field } from "../../parts/fields";
import { Overlay } from "../../parts/Overlay";

interface Props {
  providers: string[];
  /** An account to connect anew, if it is one. */
  again: Schemas["Account"] | undefined;
  onClose: () => void;
}

const asks: Record<string, { account: boolean; key: boolean; secret: string }> = {
  cirra: { account: true, key: false, secret: "token" },
  velum: { account: false, key: true, secret: "secret" },
  stratok: { account: false, key: true, secret: "signing secret" },
  premises: { account: false, key: true, secret: "controller secret" },
};

/** Asks how an account is reached; the credential is tried before anything is kept. */
export function ConnectOverlay({ providers, again, onClose }: Props) {
  const queries = useQueryClient();
  const [form, setForm] = useState<Schemas["Connection"]>({
    name: again?.name ?? "",
    provider: again?.provider ?? providers[0] ?? "",
    endpoint: again?.endpoint ?? "",
    account: again?.remote ?? "",
    key: "",
    secret: "",
  });
  const save = useMutation({
    mutationFn: connect,
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: everything });
      onClose();
    },
  });
  const problems = save.error instanceof ApiProblem ? save.error : null;
  const field = (name: keyof Schemas["Connection"], label: string, hint?: string, type = "text") => (
    <Field
      label={label}
      hint={hint}
      type={type}
      name={name}
      autoComplete="off"
      value={form[name]}
      problem={problems?.at(name)}
      onChange={(e) => setForm({ ...form, [name]: e.target.value })}
    />
  );
  const ask = asks[form.provider] ?? { account: true, key: true, secret: "secret" };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    save.mutate(form);
  };
  return (
    <Overlay title="Connect an account" onClose={onClose}>
      <form onSubmit={submit} className="flex flex-col gap-3">
        <fieldset>
          <legend className="text-[13px] text-soft">Provider</legend>
          <div className="flex gap-2 pt-0.5">
            {providers.map((p) => (
              <label
                key={p}
                className="flex-1 cursor-pointer rounded border border-line px-2 py-1.5 text-center has-checked:border-accent has-checked:bg-wash has-checked:font-semibold"
              >
                <input
                  type="radio"
                  name="provider"
                  value={p}
                  checked={form.provider === p}
                  onChange={() => setForm({ ...form, provider: p })}
                  className="sr-only"
                />
                {p}
              </label>
            ))}
          </div>
        </fieldset>
        {field("name", "Name in the estate", "short, lower case: north")}
        {field("endpoint", "API address", "https://…, or http on this machine")}
        {ask.account && field("account", "Account name at the provider")}
        {ask.key && field("key", "Key")}
        {field(
          "secret",
          ask.secret.charAt(0).toUpperCase() + ask.secret.slice(1),
          "stored encrypted, never shown again",
          "password",
        )}
        {save.error && !problems?.problem.problems && (
          <p role="alert" className="text-denied">
            {save.error.message}
          </p>
        )}
        <div className="flex justify-end gap-2 pt-1">
          <Button onClick={onClose}>Cancel</Button>
          <Button main type="submit" disabled={save.isPending}>
            {save.isPending ? "Trying…" : "Connect"}
          </Button>
        </div>
      </form>
    </Overlay>
  );
}
