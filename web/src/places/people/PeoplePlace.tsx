import { useQuery } from "@tanstack/react-query";
import { NavLink, useParams } from "react-router";
import { meQuery } from "../../api/people";
import { AuditLog } from "./AuditLog";
import { Everybody } from "./Everybody";
import { Myself } from "./Myself";
import { Notices } from "./Notices";

/** Who may sign in, what each may do, and what they did. */
export function PeoplePlace() {
  const { tab } = useParams();
  const me = useQuery(meQuery);
  if (!me.data) return null;
  const tabs = [
    { path: "/people", name: "People and teams" },
    { path: "/people/notices", name: "Notifications" },
    { path: "/people/me", name: "Password and tokens" },
    ...(me.data.roles.includes("auditor") ? [{ path: "/people/audit", name: "Audit log" }] : []),
  ];
  return (
    <section aria-label="People" className="h-full overflow-y-auto px-7 pt-4 pb-8">
      <nav aria-label="People" className="flex gap-5 border-b border-line pb-2">
        {tabs.map((t) => (
          <NavLink
            key={t.path}
            end
            to={t.path}
            className="text-soft hover:text-ink aria-[current=page]:font-semibold aria-[current=page]:text-ink"
          >
            {t.name}
          </NavLink>
        ))}
      </nav>
      {tab === "notices" ? (
        <Notices />
      ) : tab === "me" ? (
        <Myself me={me.data} />
      ) : tab === "audit" ? (
        <AuditLog />
      ) : (
        <Everybody me={me.data} />
      )}
    </section>
  );
}
