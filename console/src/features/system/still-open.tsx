import { Link } from "react-router";

import { Sheet } from "../../ui/page";
import { useFirstSteps } from "./queries";

/** On the set-up page while the first steps are not over: how far they are, and the way back to them. */
export function StillOpen() {
  const steps = useFirstSteps().data;
  if (!steps || steps.over) return null;
  const open = steps.steps.filter((s) => s.standing === "open").length;
  return (
    <Sheet className="flex flex-wrap items-center justify-between gap-3 px-5 py-3">
      <span>
        <strong>First steps.</strong> <span className="text-faded">{open ? `${open} of ${steps.steps.length} still open.` : "All are done."}</span>
      </span>
      <Link to="/first-steps">{open ? "Go on" : "Look"}</Link>
    </Sheet>
  );
}
