import { useQueryClient } from "@tanstack/react-query";
import { Route, Routes } from "react-router";

import { CallFailed } from "./api/client";
import { LiveProvider } from "./api/live";
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
import { QueuePage } from "./pages/queue/queue";
import { RecordsPage } from "./pages/records/records";
import { SignInPage } from "./pages/sign-in";
import { Empty, Failed, Loading, Page, Sheet } from "./ui/page";

export function App() {
  const me = useMe();
  const client = useQueryClient();
  if (me.isPending) return <Loading />;
  if (me.error instanceof CallFailed && me.error.status === 401) return <SignInPage />;
  if (me.error) return <Failed error={me.error} again={() => client.invalidateQueries({ queryKey: ["me"] })} />;
  return (
    <LiveProvider>
      <Frame me={me.data}>
        <Routes>
          <Route path="/" element={<BoardPage />} />
          <Route path="/queue" element={<QueuePage />} />
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
      </Frame>
    </LiveProvider>
  );
}
