import { useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Route, Routes } from "react-router";

import { CallFailed, type Me } from "../api/client";
import { LiveProvider, useLive } from "../api/live";
import { useMe } from "../api/may";
import { useFirstStanding } from "../features/access/queries";
import { FirstPersonPage } from "../features/access/first-person-page";
import { Frame } from "./frame";
import { BoardPage } from "../features/planning/board-page";
import { BinPage } from "../features/library/bin-page";
import { ComparePage } from "../features/library/compare-page";
import { FilePage } from "../features/library/file-page";
import { LibraryPage } from "../features/library/library-page";
import { PartPage, PartsPage } from "../features/library/parts-page";
import { LevelPage } from "../features/control/level-page";
import { LogPage } from "../features/control/log-page";
import { FindingPage } from "../features/machines/finding-page";
import { FirstTestPage } from "../features/machines/first-test-page";
import { MachinePage } from "../features/machines/machine-page";
import { BuildPage } from "../features/orders/build-page";
import { OrderPage } from "../features/orders/order-page";
import { OrdersPage } from "../features/orders/orders-page";
import { HelpPage } from "../features/rounds/help-page";
import { RoundsPage } from "../features/rounds/rounds-page";
import { FirstStepsPage } from "../features/system/first-steps-page";
import { SetupPage } from "../features/system/setup-page";
import { StoragePage } from "../features/system/storage-page";
import { WhatIfPage } from "../features/planning/what-if-page";
import { QueuePage } from "../features/orders/queue-page";
import { HistoryPage } from "../features/ledger/history-page";
import { FiguresPage } from "../features/ledger/figures-page";
import { QuotePage } from "../features/ledger/quote-page";
import { WorthPage } from "../features/ledger/worth-page";
import { ReportsPage } from "../features/ledger/reports-page";
import { RecordsPage } from "../features/ledger/records-page";
import { CameraPage } from "../features/watching/camera-page";
import { CamerasPage } from "../features/watching/cameras-page";
import { FilmPage } from "../features/watching/film-page";
import { FilmsPage } from "../features/watching/films-page";
import { CalibrationPage } from "../features/upkeep/calibration-page";
import { DuePage } from "../features/upkeep/due-page";
import { FleetPage } from "../features/upkeep/fleet-page";
import { UpkeepLogPage } from "../features/upkeep/log-page";
import { WearPartsPage } from "../features/upkeep/parts-page";
import { ActPage } from "../features/notices/act-page";
import { NoticesPage } from "../features/notices/notices-page";
import { RulesPage } from "../features/notices/rules-page";
import { SignOut } from "../features/access/sign-out";
import { JoinPage } from "../features/access/join-page";
import { ShowYourself } from "../features/access/show-yourself";
import { AuditPage } from "../features/access/audit-page";
import { PeoplePage } from "../features/access/people-page";
import { YouPage } from "../features/access/you-page";
import { SignInPage } from "../features/access/sign-in-page";
import { readTimesIn } from "../ui/format";
import { Empty, Failed, Loading, Page, Sheet } from "../ui/page";

/** Pages whose address itself is the right to them. */
const ALONE: Record<string, () => ReactNode> = { "/help": HelpPage, "/act": ActPage, "/join": JoinPage };

/** The console, but for the pages that somebody who is not signed in may see. */
export function App() {
  const Alone = ALONE[window.location.pathname];
  return Alone ? <Alone /> : <Console />;
}

/** Nothing is shown before the shop's own time is known: pages would take the wall's for it. */
function OnceTold({ me, children }: { me: Me; children: ReactNode }) {
  const { heard, lost } = useLive();
  readTimesIn(me.zone ?? "");
  return heard || lost ? (
    <Frame key={me.zone} me={me}>
      {children}
      <ShowYourself />
    </Frame>
  ) : (
    <Loading />
  );
}

/** Before sign-in: the first person of a new shop enters by its code. */
function Door() {
  const first = useFirstStanding();
  if (first.isPending) return <Loading />;
  return first.data?.open ? <FirstPersonPage /> : <SignInPage />;
}

/** For somebody whose roles do not let them look: why, and their own page. */
function NothingYet({ me }: { me: Me }) {
  const wants = me.wants_second ?? [];
  return (
    <main>
      <p role="status" className="m-0 bg-sunk px-4 py-3 text-center">
        {wants.length ? `What you may do here counts only with a second factor (${wants.join(", ")}). Add one below.` : "You may do nothing here yet. Ask who manages people for a role."} <SignOut />
      </p>
      <YouPage />
      <ShowYourself />
    </main>
  );
}

function Console() {
  const me = useMe();
  const client = useQueryClient();
  if (me.isPending) return <Loading />;
  if (me.error instanceof CallFailed && me.error.status === 401) return <Door />;
  if (me.error) return <Failed error={me.error} again={() => client.invalidateQueries({ queryKey: ["me"] })} />;
  if (!me.data.rights?.some((one) => one.right === "see")) return <NothingYet me={me.data} />;
  return (
    <LiveProvider>
      <OnceTold me={me.data}>
        <Routes>
          <Route path="/" element={<BoardPage />} />
          <Route path="/rounds" element={<RoundsPage />} />
          <Route path="/orders" element={<OrdersPage />} />
          <Route path="/orders/:number" element={<OrderPage />} />
          <Route path="/orders/:number/quote" element={<QuotePage />} />
          <Route path="/queue" element={<QueuePage />} />
          <Route path="/what-if" element={<WhatIfPage />} />
          <Route path="/setup" element={<SetupPage />} />
          <Route path="/setup/finding" element={<FindingPage />} />
          <Route path="/setup/people" element={<PeoplePage />} />
          <Route path="/setup/audit" element={<AuditPage />} />
          <Route path="/you" element={<YouPage />} />
          <Route path="/setup/storage" element={<StoragePage />} />
          <Route path="/first-steps" element={<FirstStepsPage />} />
          <Route path="/first-steps/:step" element={<FirstStepsPage />} />
          <Route path="/library" element={<LibraryPage />} />
          <Route path="/library/bin" element={<BinPage />} />
          <Route path="/library/films" element={<FilmsPage />} />
          <Route path="/library/films/:number" element={<FilmPage />} />
          <Route path="/library/parts" element={<PartsPage />} />
          <Route path="/library/parts/:which" element={<PartPage />} />
          <Route path="/library/files/:which" element={<FilePage />} />
          <Route path="/library/files/:which/compare" element={<ComparePage />} />
          <Route path="/cameras" element={<CamerasPage />} />
          <Route path="/cameras/:name" element={<CameraPage />} />
          <Route path="/builds/:number" element={<BuildPage />} />
          <Route path="/notices" element={<NoticesPage />} />
          <Route path="/notices/rules" element={<RulesPage />} />
          <Route path="/records" element={<RecordsPage />} />
          <Route path="/records/builds" element={<HistoryPage />} />
          <Route path="/records/figures" element={<FiguresPage />} />
          <Route path="/records/worth" element={<WorthPage />} />
          <Route path="/records/reports" element={<ReportsPage />} />
          <Route path="/upkeep" element={<DuePage />} />
          <Route path="/upkeep/calibration" element={<CalibrationPage />} />
          <Route path="/upkeep/parts" element={<WearPartsPage />} />
          <Route path="/upkeep/fleet" element={<FleetPage />} />
          <Route path="/upkeep/log" element={<UpkeepLogPage />} />
          <Route path="/machines/:name" element={<MachinePage />} />
          <Route path="/machines/:name/first-test" element={<FirstTestPage />} />
          <Route path="/machines/:name/log" element={<LogPage />} />
          <Route path="/machines/:name/level" element={<LevelPage />} />
          <Route
            path="*"
            element={
              <Page title="No such page">
                <Sheet>
                  <Empty title="There is nothing at this address">Choose a page above.</Empty>
                </Sheet>
              </Page>
            }
          />
        </Routes>
      </OnceTold>
    </LiveProvider>
  );
}
