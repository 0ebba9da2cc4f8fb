import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ApiProblem } from "../../api/client";
import { applyingQuery, connectHubs } from "../../api/plans";
import { meQuery } from "../../api/people";
import { problemText } from "../../parts/ConsequenceView";
import { Button, Field } from "../../parts/fields";
import { Overlay } from "../../parts/Overlay";

/** Says that hubs and firewalls are not connected, and connects them. */
export function ConnectHubs() {
  const applying = useQuery(applyingQuery);
  const me = useQuery(meQuery);
  const [open, setOpen] = useState(false);
  if (!applying.data || applying.data.hubs) return null;
  return (
    <p className="pt-1">
      Hubs and firewalls are not connected, so nothing is written to them.{" "}
      {me.data?.roles.includes("administrator") && (
        <button className="text-accent hover:underline" onClick={() => setOpen(true)}>
          Connect them
        </button>
      )}
      {open && <Form onClose={() => setOpen(false)} />}
    </p>
  );
}

function Form({ onClose }: { onClose: () => void }) {
  const queries = useQueryClient();
  const [endpoint, setEndpoint] = useState("");
  const [token, setToken] = useState("");
  const connect = useMutation({
    mutationFn: () => connectHubs(endpoint, token),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["applying"] });
      onClose();
    },
  });
  const at = (field: string) => (connect.error instanceof ApiProblem ? connect.error.at(field) : undefined);
  return (
    <Overlay title="Connect hubs and firewalls" onClose={onClose}>
      <form
        className="flex flex-col gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          connect.mutate();
        }}
      >
        <p>What they hold now stays as it is until a change asks for something else.</p>
        <Field
          label="Address"
          placeholder="https://hubs.example.net"
          value={endpoint}
          problem={at("endpoint")}
          onChange={(e) => setEndpoint(e.target.value)}
        />
        <Field
          label="Token"
          type="password"
          autoComplete="off"
          value={token}
          problem={at("secret")}
          onChange={(e) => setToken(e.target.value)}
        />
        {connect.error && !at("endpoint") && !at("secret") && (
          <p role="alert" className="text-denied">
            {problemText(connect.error)}
          </p>
        )}
        <div>
          <Button main type="submit" disabled={connect.isPending || !endpoint || !token}>
            Connect
          </Button>
        </div>
      </form>
    </Overlay>
  );
}
