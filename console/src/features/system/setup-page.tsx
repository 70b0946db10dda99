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
import { useMay } from "../../api/may";
import { Needs } from "../../ui/needs";

export function SetupPage() {
  const why = useMay()("set_up");
  const planning = usePlanning();
  const strategies = useStrategies();
  const hours = useHours();
  const failed = planning.error ?? strategies.error;
  return (
    <Page title="Set-up">
      {why && <p className="mt-0 mb-4 rounded-md bg-sunk px-4 py-2.5">{why} You see it as it is.</p>}
      <div className="grid gap-5 lg:grid-cols-2 lg:items-start">
        <div className="flex min-w-0 flex-col gap-5">
          <StillOpen />
          <ShopSetup />
          <Needs right="set_up" quiet>
<MachinesSetup many={<ManyMachines />} />
</Needs>
          <Sheet>
            <SheetTitle>How the next build is chosen</SheetTitle>
            {failed ? (
              <Failed error={failed} />
            ) : planning.data && strategies.data ? (
              <Needs right="set_up" quiet>
<PlanningForm now={planning.data} strategies={strategies.data} />
</Needs>
            ) : (
              <Loading rows={14} />
            )}
          </Sheet>
          <Sheet>
            <SheetTitle>When hands are here</SheetTitle>
            {hours.error ? <Failed error={hours.error} /> : hours.data ? <Needs right="set_up" quiet>
<Hours all={hours.data} />
</Needs> : <Loading rows={15} height="h-9" />}
          </Sheet>
          <Needs right="set_up" quiet>
<PlugsSetup />
</Needs>
          <Needs right="set_up" quiet>
<UpkeepWindows />
</Needs>
          <NoticesSetup />
          <Storage />
          <BackupsSetup />
          <SetupFileSheet />
        </div>
        <div className="flex min-w-0 flex-col gap-5">
          <Needs right="set_up" quiet>
<CamerasSetup />
</Needs>
          <Needs right="set_up" quiet>
<WatchSetup />
</Needs>
          <Needs right="set_up" quiet>
<FilmsSetup />
</Needs>
          <Spools />
          <MaterialsSetup />
          <HotFoldersSetup />
          <Needs right="spend" quiet>
<Prices />
</Needs>
          <PeopleSetup />
        </div>
      </div>
    </Page>
  );
}
