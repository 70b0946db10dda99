import { Link } from "react-router";

/** What is left out of costs because nobody said what it costs. */
export function Unpriced({ costs }: { costs: { unpriced?: string[] }[] }) {
  const missing = [...new Set(costs.flatMap((cost) => cost.unpriced ?? []))].sort();
  if (!missing.length) return null;
  return (
    <p className="mx-5 mt-3 mb-0 text-sm text-faded">
      Left out, because there is no price or no reading for it: {missing.join(", ")}. <Link to="/setup#prices">Prices</Link>
    </p>
  );
}
