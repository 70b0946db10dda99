import type { ReactNode } from "react";

import type { Right } from "../api/client";
import { type At, useMay } from "../api/may";

/** What only those may use who have a right: for others it is shown, does nothing, and says why. `quiet`: where the page says
 * why already. */
export function Needs({ right, at, quiet = false, className = "", children }: { right: Right; at?: At; quiet?: boolean; className?: string; children: ReactNode }) {
  const why = useMay()(right, at);
  if (why === null) return <>{children}</>;
  return (
    <>
      {!quiet && <p className={`m-0 text-sm text-faded ${className}`}>{why}</p>}
      <fieldset disabled title={why} className="contents [&_button]:opacity-60">
        {children}
      </fieldset>
    </>
  );
}
