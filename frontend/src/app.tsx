import { useQuery } from "@tanstack/react-query";
import { type ComponentType, lazy, Suspense } from "react";
import { Link, Navigate, Route, Routes } from "react-router";
import { get, Problem, setCsrf } from "./api/client";
import { keys } from "./api/keys";
import { ErrorBoundary } from "./parts/error-boundary";
import { MeContext } from "./parts/me";
import { Page } from "./parts/page";
import { Proving } from "./parts/proving";
import { Shell } from "./parts/shell";
import { Waiting } from "./parts/waiting";
import { SetPassword, SignIn } from "./places/sign-in";

/** A page that is loaded when it is first shown. */
const page = <K extends string>(load: () => Promise<Record<K, ComponentType>>, name: K) =>
  lazy(async () => ({ default: (await load())[name] }));

const Account = page(() => import("./places/account"), "Account");
const WhatWorksPage = page(() => import("./places/campaigns/benchmarks"), "WhatWorksPage");
const LayoutPage = page(() => import("./places/campaigns/layout"), "LayoutPage");
const CampaignList = page(() => import("./places/campaigns/list"), "CampaignList");
const HealthPlace = page(() => import("./places/health/health"), "HealthPlace");
const ProvidersPage = page(() => import("./places/health/providers"), "ProvidersPage");
const SegmentEditor = page(() => import("./places/segments/editor"), "SegmentEditor");
const SegmentList = page(() => import("./places/segments/list"), "SegmentList");
const RelayPage = page(() => import("./places/senders/relay"), "RelayPage");
const SenderPlace = page(() => import("./places/senders/senders"), "SenderPlace");
const SettingsPlace = page(() => import("./places/settings/settings"), "SettingsPlace");
const AddressChecksPage = page(() => import("./places/subscribers/address-checks"), "AddressChecksPage");
const ConsentPage = page(() => import("./places/subscribers/consent"), "ConsentPage");
const BringIn = page(() => import("./places/subscribers/import"), "BringIn");
const MachineOpensPage = page(() => import("./places/subscribers/machine-activity"), "MachineOpensPage");
const MapPage = page(() => import("./places/subscribers/map"), "MapPage");
const PersonPage = page(() => import("./places/subscribers/person"), "PersonPage");
const ScoreCheckPage = page(() => import("./places/subscribers/score-check"), "ScoreCheckPage");
const SourcesPage = page(() => import("./places/subscribers/sources"), "SourcesPage");
const CleanUpPage = page(() => import("./places/subscribers/sunset-policy"), "CleanUpPage");
const TablePage = page(() => import("./places/subscribers/table"), "TablePage");
const RestoredPage = page(() => import("./places/today/restored"), "RestoredPage");
const TodayPlace = page(() => import("./places/today/today"), "TodayPlace");
const CampaignPlace = page(() => import("./places/campaigns/campaign"), "CampaignPlace");
const SequencesPlace = page(() => import("./places/sequences/sequences"), "SequencesPlace");

export function App() {
  const me = useQuery({
    queryKey: keys.me(),
    queryFn: async () => {
      const found = await get("/me");
      setCsrf(found.csrf);
      return found;
    },
    staleTime: Number.POSITIVE_INFINITY,
  });
  const link = location.pathname.match(/^\/set-password\/([\w-]+)$/)?.[1];
  if (link) return <SetPassword token={link} />;
  if (me.error instanceof Problem && me.error.status === 401) return <SignIn />;
  if (!me.data)
    return (
      <div className="p-8">
        <Waiting error={me.error} what="your workspace" />
      </div>
    );
  return (
    <MeContext value={me.data}>
      <Proving>
        <Shell>
          <ErrorBoundary>
            <Suspense
              fallback={
                <Page title="…">
                  <Waiting error={null} what="the page" />
                </Page>
              }
            >
              <Routes>
                <Route path="/" element={<Navigate to="/today" replace />} />
                <Route path="/sign-in" element={<Navigate to="/today" replace />} />
                <Route path="/today" element={<TodayPlace />} />
                <Route path="/restored" element={<RestoredPage />} />
                <Route path="/subscribers" element={<Navigate to="/subscribers/map" replace />} />
                <Route path="/subscribers/map" element={<MapPage />} />
                <Route path="/subscribers/table" element={<TablePage />} />
                <Route path="/subscribers/import" element={<BringIn />} />
                <Route path="/subscribers/address-checks" element={<AddressChecksPage />} />
                <Route path="/subscribers/consent" element={<ConsentPage />} />
                <Route path="/subscribers/sunset-policy" element={<CleanUpPage />} />
                <Route path="/subscribers/sources" element={<SourcesPage />} />
                <Route path="/subscribers/score-check" element={<ScoreCheckPage />} />
                <Route path="/subscribers/machine-activity" element={<MachineOpensPage />} />
                <Route path="/subscribers/:id" element={<PersonPage />} />
                <Route path="/segments" element={<SegmentList />} />
                <Route path="/segments/:id" element={<SegmentEditor />} />
                <Route path="/senders" element={<SenderPlace />} />
                <Route path="/senders/relay" element={<RelayPage />} />
                <Route path="/senders/:id" element={<SenderPlace />} />
                <Route path="/campaigns" element={<CampaignList />} />
                <Route path="/campaigns/layout" element={<LayoutPage />} />
                <Route path="/campaigns/benchmarks" element={<WhatWorksPage />} />
                <Route path="/campaigns/:id/*" element={<CampaignPlace />} />
                <Route path="/sequences/*" element={<SequencesPlace />} />
                <Route path="/health/providers" element={<ProvidersPage />} />
                <Route path="/health" element={<HealthPlace />} />
                <Route path="/settings" element={<SettingsPlace />} />
                <Route path="/settings/:section" element={<SettingsPlace />} />
                <Route path="/account" element={<Account />} />
                <Route
                  path="*"
                  element={
                    <Page title="Page not found">
                      <p>
                        There is no page at this address.{" "}
                        <Link className="text-cornflower underline" to="/today">
                          Go to Today
                        </Link>
                      </p>
                    </Page>
                  }
                />
              </Routes>
            </Suspense>
          </ErrorBoundary>
        </Shell>
      </Proving>
    </MeContext>
  );
}
