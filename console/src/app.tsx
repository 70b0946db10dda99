import { useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Route, Routes } from "react-router";

import { CallFailed, type Me } from "./api/client";
import { LiveProvider, useLive } from "./api/live";
import { useMe } from "./api/queries";
import { Frame } from "./frame";
import { BoardPage } from "./pages/board/board";
import { BinPage } from "./pages/library/bin";
import { ComparePage } from "./pages/library/compare";
import { FilePage } from "./pages/library/file";
import { LibraryPage } from "./pages/library/library";
import { PartPage, PartsPage } from "./pages/library/parts";
import { LevelPage } from "./pages/machine/level";
import { LogPage } from "./pages/machine/log";
import { MachinePage } from "./pages/machine/machine";
import { OrderPage } from "./pages/orders/order";
import { OrdersPage } from "./pages/orders/orders";
import { HelpPage } from "./pages/rounds/help";
import { RoundsPage } from "./pages/rounds/rounds";
import { SetupPage } from "./pages/setup/setup";
import { WhatIfPage } from "./pages/what-if/what-if";
import { QueuePage } from "./pages/queue/queue";
import { RecordsPage } from "./pages/records/records";
import { SignInPage } from "./pages/sign-in";
import { Empty, Failed, Loading, Page, Sheet } from "./ui/page";

/** The console, but for the one page that somebody without an account may see. */
export function App() {
  return window.location.pathname === "/help" ? <HelpPage /> : <Console />;
}

/** Nothing is shown before the shop's own time is known: pages would take the wall's for it. */
function OnceTold({ me, children }: { me: Me; children: ReactNode }) {
  const { heard, lost } = useLive();
  return heard || lost ? <Frame me={me}>{children}</Frame> : <Loading />;
}

function Console() {
  const me = useMe();
  const client = useQueryClient();
  if (me.isPending) return <Loading />;
  if (me.error instanceof CallFailed && me.error.status === 401) return <SignInPage />;
  if (me.error) return <Failed error={me.error} again={() => client.invalidateQueries({ queryKey: ["me"] })} />;
  return (
    <LiveProvider>
      <OnceTold me={me.data}>
        <Routes>
          <Route path="/" element={<BoardPage />} />
          <Route path="/rounds" element={<RoundsPage />} />
          <Route path="/orders" element={<OrdersPage />} />
          <Route path="/orders/:number" element={<OrderPage />} />
          <Route path="/queue" element={<QueuePage />} />
          <Route path="/what-if" element={<WhatIfPage />} />
          <Route path="/setup" element={<SetupPage />} />
          <Route path="/library" element={<LibraryPage />} />
          <Route path="/library/bin" element={<BinPage />} />
          <Route path="/library/parts" element={<PartsPage />} />
          <Route path="/library/parts/:which" element={<PartPage />} />
          <Route path="/library/files/:which" element={<FilePage />} />
          <Route path="/library/files/:which/compare" element={<ComparePage />} />
          <Route path="/records" element={<RecordsPage />} />
          <Route path="/machines/:name" element={<MachinePage />} />
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
