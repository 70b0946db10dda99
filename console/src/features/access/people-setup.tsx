import { Link } from "react-router";

import { Sheet, SheetTitle } from "../../ui/page";
import { useMay } from "../../api/may";
import { usePeople } from "./queries";

/** On the set-up page: how many can sign in, and the way to their page. */
export function PeopleSetup() {
  const may = useMay()("manage_people") === null;
  const people = usePeople(may);
  if (!may) return null;
  return (
    <Sheet className="min-w-0">
      <SheetTitle beside={<span className="flex gap-4"><Link to="/setup/people" className="text-ink">People and roles</Link><Link to="/setup/audit" className="text-ink">Audit</Link></span>}>People</SheetTitle>
      <p className="m-0 px-5 pb-4 text-faded">
        {people.data ? `${people.data.map((p) => p.name).slice(0, 8).join(", ")}${people.data.length > 8 ? ` and ${people.data.length - 8} more` : ""} can sign in.` : " "}
      </p>
    </Sheet>
  );
}
