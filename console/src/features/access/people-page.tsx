import { Link } from "react-router";

import { Empty, Page, Sheet } from "../../ui/page";
import { InvitesSheet } from "./invites-sheet";
import { KeysSheet } from "./keys-sheet";
import { useMay } from "../../api/may";
import { PeopleSheet } from "./people-sheet";
import { RolesSheet } from "./roles-sheet";
import { TeamsSheet } from "./teams-sheet";

/** Everybody who can sign in, what they may do, and the keys of programs. */
export function PeoplePage() {
  const why = useMay()("manage_people");
  return (
    <Page title="People and roles" beside={<span className="flex gap-4"><Link to="/setup/audit" className="text-ink">Audit</Link><Link to="/setup" className="text-ink">Set-up</Link></span>}>
      {why ? (
        <Sheet>
          <Empty title="Not yours to set">{why} What is your own is on your page.</Empty>
        </Sheet>
      ) : (
        <div className="grid gap-5 lg:grid-cols-2 lg:items-start">
          <div className="flex min-w-0 flex-col gap-5">
            <PeopleSheet />
            <InvitesSheet />
            <TeamsSheet />
          </div>
          <div className="flex min-w-0 flex-col gap-5">
            <RolesSheet />
            <KeysSheet />
          </div>
        </div>
      )}
    </Page>
  );
}
