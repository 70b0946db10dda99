import { Page } from "../../ui/page";
import { ThisBrowser } from "./browser";
import { Channels } from "./channels";
import { Rules } from "./rules";

/** What somebody hears of, and how they are reached. */
export function RulesPage() {
  return (
    <Page title="What I hear of">
      <div className="grid gap-5 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)] lg:items-start">
        <Rules whose="mine" />
        <div className="flex min-w-0 flex-col gap-5">
          <Channels whose="mine" />
          <ThisBrowser />
        </div>
      </div>
    </Page>
  );
}
