import { NavLink } from "react-router";

const PAGES = [
  { to: "/upkeep", name: "Due" },
  { to: "/upkeep/calibration", name: "Calibration" },
  { to: "/upkeep/parts", name: "Wear parts" },
  { to: "/upkeep/fleet", name: "Firmware and settings" },
  { to: "/upkeep/log", name: "Log" },
];

/** The pages about upkeep. */
export function UpkeepLinks() {
  return (
    <nav className="flex flex-wrap gap-x-5 gap-y-1 text-sm" aria-label="Upkeep">
      {PAGES.map((p) => (
        <NavLink key={p.to} to={p.to} end className={({ isActive }) => (isActive ? "font-semibold text-ink no-underline" : "text-faded no-underline hover:text-ink")}>
          {p.name}
        </NavLink>
      ))}
    </nav>
  );
}
