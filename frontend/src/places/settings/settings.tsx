import { useQuery } from "@tanstack/react-query";
import { NavLink, useParams } from "react-router";
import { get, type M } from "../../api/client";
import { keys } from "../../api/keys";
import { useMe } from "../../parts/me";
import { Page } from "../../parts/page";
import { StateTag } from "../../parts/state-tag";
import { Waiting } from "../../parts/waiting";
import { AccountsSection } from "./accounts";
import { ActivitySection } from "./activity";
import { FieldsSection } from "./fields";
import { SettingsForm } from "./form";

const slug = (words: string) => words.toLowerCase().replaceAll(" ", "-");
const OWN = ["Fields", "Accounts", "Tokens", "Activity log"] as const;

/** The settings of the workspace by group, its accounts and tokens, and the activity log. */
export function SettingsPlace() {
  const { section = "workspace" } = useParams();
  const me = useMe();
  const q = useQuery({ queryKey: keys.settings(), queryFn: () => get("/settings") });
  const checks = useQuery({
    queryKey: keys.settingsCheck(),
    queryFn: () => get("/settings/check"),
  });
  if (!q.data)
    return (
      <Page title="Settings">
        <Waiting error={q.error} what="the settings" />
      </Page>
    );
  const group = q.data.groups.find((g) => slug(g.name) === section);
  const names = [
    ...q.data.groups.map((g) => g.name),
    ...OWN.filter((n) => (n !== "Accounts" && n !== "Tokens") || me.role === "analyst"),
  ];
  return (
    <Page
      title="Settings"
      lead={`For ${me.workspace} and everyone who works in it.`}
      side={<Checks of={checks.data?.findings ?? []} />}
    >
      <div className="grid grid-cols-[150px_minmax(0,1fr)] gap-8 max-tablet:grid-cols-1 max-tablet:gap-3">
        <nav aria-label="Groups of settings" className="max-tablet:flex max-tablet:flex-wrap max-tablet:gap-x-4">
          {names.map((n) => (
            <NavLink
              key={n}
              to={`/settings/${slug(n)}`}
              className={() =>
                `block border-l-2 py-1 pl-3 max-tablet:border-l-0 max-tablet:pl-0 ${section === slug(n) ? "border-cornflower font-semibold text-ink" : "border-transparent text-ink-2 hover:text-ink"}`
              }
              aria-current={section === slug(n) ? "page" : undefined}
            >
              {n}
            </NavLink>
          ))}
        </nav>
        <div className="min-w-0 max-w-[760px]">
          {group ? (
            <SettingsForm key={group.name} group={group} askedBy={q.data.approval_off_asked_by} />
          ) : section === "fields" ? (
            <FieldsSection />
          ) : section === "activity-log" ? (
            <ActivitySection />
          ) : me.role === "analyst" ? (
            <AccountsSection tokens={section === "tokens"} />
          ) : (
            <p className="text-ink-2">Only analysts can see this.</p>
          )}
        </div>
      </div>
    </Page>
  );
}

function Checks({ of }: { of: M["WorkspaceCheck"][] }) {
  const open = of.filter((f) => f.state !== "pass");
  return (
    <>
      <h2 className="mb-2">Before a first real send</h2>
      {open.length === 0 ? (
        <p className="text-ink-2">Everything is set.</p>
      ) : (
        <ul>
          {open.map((f) => (
            <li key={f.check + f.finding} className="border-b border-rule py-2">
              <p className="flex items-center justify-between gap-2 font-semibold">
                {f.check} <StateTag state={f.state} />
              </p>
              <p className="text-small text-ink-2">{f.finding}</p>
              {f.link && f.link !== "/settings" && (
                <NavLink className="text-small text-cornflower underline" to={f.link}>
                  Open
                </NavLink>
              )}
            </li>
          ))}
        </ul>
      )}
    </>
  );
}
