import { useHours, usePlanning, useStrategies } from "../planning/queries";
import { Failed, Loading, Page, Sheet, SheetTitle } from "../../ui/page";
import { Hours } from "../planning/hours";
import { PlanningForm } from "../planning/planning-form";
import { NoticesSetup } from "../notices/notices-setup";
import { PeopleSetup } from "../access/people-setup";
import { HotFoldersSetup } from "../library/hot-folders";
import { Prices } from "../ledger/prices";
import { MachinesSetup } from "../machines/machines-setup";
import { MaterialsSetup } from "../machines/materials-setup";
import { Spools } from "../machines/spools";
import { BackupsSetup } from "./backups";
import { ManyMachines, SetupFileSheet } from "./setup-file";
import { ShopSetup } from "./shop-form";
import { StillOpen } from "./still-open";
import { Storage } from "./storage";
import { PlugsSetup } from "../machines/plugs-setup";
import { UpkeepWindows } from "../upkeep/windows";
import { CamerasSetup } from "../watching/cameras-setup";
import { FilmsSetup } from "../watching/films-setup";
import { WatchSetup } from "../watching/watch-setup";

export function SetupPage() {
  const planning = usePlanning();
  const strategies = useStrategies();
  const hours = useHours();
  const failed = planning.error ?? strategies.error;
  return (
    <Page title="Set-up">
      <div className="grid gap-5 lg:grid-cols-2 lg:items-start">
        <div className="flex min-w-0 flex-col gap-5">
          <StillOpen />
          <ShopSetup />
          <MachinesSetup many={<ManyMachines />} />
          <Sheet>
            <SheetTitle>How the next build is chosen</SheetTitle>
            {failed ? (
              <Failed error={failed} />
            ) : planning.data && strategies.data ? (
              <PlanningForm now={planning.data} strategies={strategies.data} />
            ) : (
              <Loading rows={14} />
            )}
          </Sheet>
          <Sheet>
            <SheetTitle>When hands are here</SheetTitle>
            {hours.error ? <Failed error={hours.error} /> : hours.data ? <Hours all={hours.data} /> : <Loading rows={15} height="h-9" />}
          </Sheet>
          <PlugsSetup />
          <UpkeepWindows />
          <NoticesSetup />
          <Storage />
          <BackupsSetup />
          <SetupFileSheet />
        </div>
        <div className="flex min-w-0 flex-col gap-5">
          <CamerasSetup />
          <WatchSetup />
          <FilmsSetup />
          <Spools />
          <MaterialsSetup />
          <HotFoldersSetup />
          <Prices />
          <PeopleSetup />
        </div>
      </div>
    </Page>
  );
}
