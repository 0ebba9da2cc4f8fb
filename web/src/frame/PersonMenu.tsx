import { useMutation, useQuery } from "@tanstack/react-query";
import { UserRound } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { useNavigate } from "react-router";
import { signInPath } from "../api/client";
import { noticesQuery } from "../api/notices";
import { meQuery, signOut } from "../api/people";
import { counted } from "../parts/wording";

const item = "block cursor-default px-4 py-1.5 outline-none data-highlighted:bg-wash";

/** Who is signed in, with what concerns themselves. */
export function PersonMenu() {
  const me = useQuery(meQuery);
  const navigate = useNavigate();
  const out = useMutation({ mutationFn: signOut, onSuccess: () => window.location.assign(signInPath) });
  const notices = useQuery(noticesQuery);
  if (!me.data) return null;
  const unseen = notices.data?.notices.filter((n) => !n.seen).length ?? 0;
  const { called, roles } = me.data;
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        aria-label={`Signed in as ${called}${unseen > 0 ? `, ${counted(unseen, "notification")}` : ""}`}
        title={unseen > 0 ? `${called}: ${counted(unseen, "notification")}` : called}
        className="relative flex items-center text-soft hover:text-ink"
      >
        <UserRound size={17} />
        {unseen > 0 && (
          <span
            data-testid="unseen"
            className="absolute -top-2 -right-2.5 min-w-4 rounded-full bg-accent px-1 text-center text-[11px] leading-4 font-semibold text-sheet"
          >
            {unseen}
          </span>
        )}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={8}
          className="z-50 w-64 rounded-md border border-line bg-sheet py-1.5 shadow-lg"
        >
          <div className="border-b border-line px-4 pb-2">
            <p className="font-semibold">{called}</p>
            <p className="text-[13px] text-soft">{roles.length > 0 ? roles.join(", ") : "viewer"}</p>
          </div>
          <DropdownMenu.Item className={item} onSelect={() => void navigate("/people/notices")}>
            Notifications
            {unseen > 0 && <span className="text-soft"> · {unseen} new</span>}
          </DropdownMenu.Item>
          <DropdownMenu.Item className={item} onSelect={() => void navigate("/people/me")}>
            Password and tokens
          </DropdownMenu.Item>
          <DropdownMenu.Item className={item} onSelect={() => void navigate("/people")}>
            People and teams
          </DropdownMenu.Item>
          {roles.includes("auditor") && (
            <DropdownMenu.Item className={item} onSelect={() => void navigate("/people/audit")}>
              Audit log
            </DropdownMenu.Item>
          )}
          <DropdownMenu.Item className={item} onSelect={() => out.mutate()}>
            Sign out
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
