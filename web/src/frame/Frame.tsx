import { useQuery } from "@tanstack/react-query";
import { Moon, Sun } from "lucide-react";
import { Navigate, NavLink, Outlet, useLocation } from "react-router";
import { estateQuery } from "../api/queries";
import { counted } from "../parts/wording";
import { AnswerLine } from "./AnswerLine";
import { OutsideChip } from "./OutsideChip";
import { ForceChip } from "./ForceChip";
import { QuestionLine } from "./QuestionLine";
import { NextStep } from "./NextStep";
import { Palette } from "./Palette";
import { PersonMenu } from "./PersonMenu";
import { Shortcuts } from "./Shortcuts";
import { useTheme } from "./theme";
import { useBusy } from "./useBusy";
import { useEvents } from "./useEvents";
import { useWhereInAddress, whereKey } from "./where";
import { WhereStrip } from "./WhereStrip";

const places = [
  { path: "/estate", name: "Estate" },
  { path: "/lanes", name: "Lanes" },
  { path: "/rules", name: "Rules" },
  { path: "/targets", name: "Targets" },
  { path: "/changes", name: "Changes" },
  { path: "/board", name: "Board" },
  { path: "/findings", name: "Findings" },
];

/** Places that are of use before there is an estate: the others lead to where one begins. */
const withoutEstate = /^\/(begin|estate|people|changes)(\/|$)/;

/** The frame of every place: question on top, places beside, the place below. */
export function Frame() {
  const { search, pathname } = useLocation();
  const [theme, toggle] = useTheme();
  useBusy();
  const w = useWhereInAddress();
  const present = useEvents(w);
  const estate = useQuery(estateQuery);
  const empty = estate.data?.empty;
  return (
    <div className="flex h-full flex-col">
      <header className="flex items-center gap-x-5 gap-y-2 border-b border-line px-5 py-2.5 max-[960px]:flex-wrap">
        <Wordmark />
        <QuestionLine />
        <nav aria-label="Places" className="flex gap-1 max-[960px]:ml-auto">
          {places.map((p) => (
            <NavLink
              key={p.path}
              to={{ pathname: p.path, search }}
              className="border-b-2 border-transparent px-2 py-1.5 text-soft hover:text-ink aria-[current=page]:border-accent aria-[current=page]:font-semibold aria-[current=page]:text-ink"
            >
              {p.name}
            </NavLink>
          ))}
        </nav>
        <button
          onClick={toggle}
          aria-label={`Change to ${theme === "light" ? "dark" : "light"}`}
          className="text-soft hover:text-ink"
        >
          {theme === "light" ? <Moon size={17} /> : <Sun size={17} />}
        </button>
        <PersonMenu />
      </header>
      <AnswerLine />
      <main className="min-h-0 flex-1">
        {empty && !withoutEstate.test(pathname) ? (
          <Navigate to="/begin" replace />
        ) : (
          <Outlet key={whereKey(w)} />
        )}
      </main>
      {w.kind !== "applied" && <WhereStrip where={w} present={present} />}
      <footer className="flex gap-5 border-t border-line px-5 py-1 overflow-hidden text-xs whitespace-nowrap text-soft">
        {estate.data && (
          <>
            <span className="text-ink">{estate.data.name}</span>
            {w.kind === "applied" && <span>applied estate, revision {estate.data.revision}</span>}
            {w.kind === "applied" && <ForceChip />}
            {w.kind === "applied" && <OutsideChip />}
            <span>{counted(estate.data.counts.workloads ?? 0, "workload")}</span>
            <span>{counted(estate.data.counts.networks ?? 0, "network")}</span>
            <span>{counted(estate.data.counts.policies ?? 0, "policy", "policies")}</span>
            <span>
              {estate.data.faults.length === 0 ? "no faults" : counted(estate.data.faults.length, "fault")}
            </span>
          </>
        )}
        {estate.error && <span className="text-denied">{estate.error.message}</span>}
        {estate.data && <NextStep estate={estate.data} />}
        <Palette />
        <Shortcuts />
      </footer>
    </div>
  );
}

export function Wordmark() {
  return (
    <span className="flex items-center gap-2 font-serif text-[19px] font-semibold tracking-tight">
      <svg width="26" height="18" viewBox="0 0 26 18" fill="none" strokeLinecap="round" aria-hidden>
        <path d="M2 13h6c5 0 5-9 10-9h6" stroke="var(--ink)" strokeWidth="2.6" />
        <path d="M12.5 13H24" stroke="var(--soft)" strokeWidth="2.2" strokeDasharray=".1 3.8" />
      </svg>
      bivium
    </span>
  );
}
