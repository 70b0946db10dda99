import { Link } from "react-router";

import { useNow } from "../../api/live";
import { size, width } from "../../ui/format";
import { Sheet, SheetTitle } from "../../ui/page";
import { useStorage } from "./queries";
import { fullIn } from "./storage-words";

/** What is kept, in short. */
export function Storage() {
  const of = useStorage().data;
  const now = useNow();
  if (!of) return null;
  const ours = of.parts.reduce((sum, one) => sum + one.size, 0);
  return (
    <Sheet>
      <SheetTitle beside={<Link to="/setup/storage">What takes it</Link>}>Storage</SheetTitle>
      <div className="px-5 pb-4">
        <span aria-hidden className="mb-2 block h-1.5 rounded-full bg-sunk">
          <span className="block h-full rounded-full bg-faded" style={{ width: width(1 - of.free / of.size) }} />
        </span>
        <p className="m-0">
          <span className="font-medium">{size(ours)}</span> are kept; {size(of.free)} of {size(of.size)} are free. <span className="text-faded">{fullIn(of, now)}</span>
        </p>
      </div>
    </Sheet>
  );
}
