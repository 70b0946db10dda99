import { Link } from "react-router";

const PAGES = [
  { to: "/records", name: "Where the time went" },
  { to: "/records/figures", name: "Figures" },
  { to: "/records/builds", name: "All builds" },
  { to: "/records/worth", name: "Worth a machine?" },
  { to: "/records/reports", name: "Reports" },
];

/** The other pages of the records. */
export function RecordsLinks({ here }: { here: string }) {
  return (
    <span className="flex gap-4 text-sm">
      {PAGES.filter((p) => p.to !== here).map((p) => (
        <Link key={p.to} to={p.to} className="text-faded">
          {p.name}
        </Link>
      ))}
    </span>
  );
}
