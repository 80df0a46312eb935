import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import { Link, Navigate, Route, Routes } from "react-router";
import { get, Problem, setCsrf } from "./api/client";
import { setZone } from "./logic/format";
import { Page, Waiting } from "./parts/basics";
import { Frame } from "./parts/frame";
import { MeContext } from "./parts/me";
import { Proving } from "./parts/proving";
import { Account } from "./places/account";
import { FramePage } from "./places/campaigns/frame";
import { CampaignList } from "./places/campaigns/list";
import { WhatWorksPage } from "./places/campaigns/what-works";
import { HealthPlace } from "./places/health/health";
import { ProvidersPage } from "./places/health/providers";
import { SegmentEditor } from "./places/segments/editor";
import { SegmentList } from "./places/segments/list";
import { RelayPage } from "./places/senders/relay";
import { SenderPlace } from "./places/senders/senders";
import { SettingsPlace } from "./places/settings/settings";
import { SetPassword, SignIn } from "./places/sign-in";
import { AddressChecksPage } from "./places/subscribers/address-checks";
import { BringIn } from "./places/subscribers/bring-in";
import { CleanUpPage } from "./places/subscribers/clean-up";
import { ConsentPage } from "./places/subscribers/consent";
import { DoorsPage } from "./places/subscribers/doors";
import { MachineOpensPage } from "./places/subscribers/machine-opens";
import { MapPage } from "./places/subscribers/map";
import { PersonPage } from "./places/subscribers/person";
import { TablePage } from "./places/subscribers/table";
import { RestoredPage } from "./places/today/restored";
import { TodayPlace } from "./places/today/today";

// the places with an editor of messages come when they are asked for
const CampaignPlace = lazy(async () => ({ default: (await import("./places/campaigns/campaign")).CampaignPlace }));
const SequencesPlace = lazy(async () => ({ default: (await import("./places/sequences/sequences")).SequencesPlace }));

export function App() {
  const me = useQuery({
    queryKey: ["me"],
    queryFn: async () => {
      const found = await get("/me");
      setCsrf(found.csrf);
      setZone(found.time_zone);
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
        <Frame>
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
              <Route path="/subscribers/bring-in" element={<BringIn />} />
              <Route path="/subscribers/address-checks" element={<AddressChecksPage />} />
              <Route path="/subscribers/consent" element={<ConsentPage />} />
              <Route path="/subscribers/clean-up" element={<CleanUpPage />} />
              <Route path="/subscribers/doors" element={<DoorsPage />} />
              <Route path="/subscribers/machine-opens" element={<MachineOpensPage />} />
              <Route path="/subscribers/:id" element={<PersonPage />} />
              <Route path="/segments" element={<SegmentList />} />
              <Route path="/segments/:id" element={<SegmentEditor />} />
              <Route path="/senders" element={<SenderPlace />} />
              <Route path="/senders/relay" element={<RelayPage />} />
              <Route path="/senders/:id" element={<SenderPlace />} />
              <Route path="/campaigns" element={<CampaignList />} />
              <Route path="/campaigns/frame" element={<FramePage />} />
              <Route path="/campaigns/what-works" element={<WhatWorksPage />} />
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
                  <Page title="Nothing is here">
                    <p>
                      There is nothing at this address.{" "}
                      <Link className="text-cornflower underline" to="/today">
                        Go to Today
                      </Link>
                    </p>
                  </Page>
                }
              />
            </Routes>
          </Suspense>
        </Frame>
      </Proving>
    </MeContext>
  );
}
