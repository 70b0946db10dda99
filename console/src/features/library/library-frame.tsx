import { Box, Files, Film, Trash2 } from "lucide-react";
import type { ReactNode } from "react";
import { NavLink } from "react-router";

import type { LibraryFile } from "../../api/client";
import { Page } from "../../ui/page";

const TABS = [
  { to: "/library", name: "Files", icon: Files },
  { to: "/library/parts", name: "Parts", icon: Box },
  { to: "/library/films", name: "Films", icon: Film },
  { to: "/library/bin", name: "Bin", icon: Trash2 },
];

/** The library's pages: files, parts and the bin under one title. */
export function LibraryFrame({ beside, children }: { beside?: ReactNode; children: ReactNode }) {
  return (
    <Page
      title={
        <span className="flex flex-wrap items-end gap-x-7 gap-y-2">
          Library
          <span className="flex gap-1 pb-0.5 font-sans text-base font-normal">
            {TABS.map((t) => (
              <NavLink
                key={t.to}
                to={t.to}
                end
                className={({ isActive }) =>
                  `flex items-center gap-1.5 rounded-md px-2.5 py-1 no-underline ${isActive ? "bg-sunk font-semibold text-ink" : "text-faded hover:text-ink"}`
                }
              >
                <t.icon size={16} aria-hidden />
                {t.name}
              </NavLink>
            ))}
          </span>
        </span>
      }
      beside={beside}
    >
      {children}
    </Page>
  );
}

/** The picture the slicer left, or the outline of what is laid first. */
export function Thumb({ file, size = 44 }: { file: LibraryFile; size?: number }) {
  const pictures = file.reading.pictures ?? [];
  if (pictures.length > 0)
    return (
      <img
        src={`/api/contents/${file.sha256}/picture?width=${size * 2}`}
        alt=""
        loading="lazy"
        width={size}
        height={size}
        className="shrink-0 rounded bg-sunk object-contain"
        style={{ width: size, height: size }}
      />
    );
  const rings = (file.reading.objects ?? []).map((o) => o.outline).filter((o) => o.length > 2);
  const xs = rings.flat().map((p) => p[0]!);
  const ys = rings.flat().map((p) => p[1]!);
  const reach = Math.max(Math.max(...xs) - Math.min(...xs), Math.max(...ys) - Math.min(...ys), 1);
  return (
    <svg
      aria-hidden
      width={size}
      height={size}
      viewBox={rings.length ? `${Math.min(...xs) - reach * 0.06} ${-Math.max(...ys) - reach * 0.06} ${reach * 1.12} ${reach * 1.12}` : "0 0 1 1"}
      className="shrink-0 rounded bg-sunk"
    >
      {rings.map((ring, i) => (
        <polygon key={i} points={ring.map(([x, y]) => `${x},${-y!}`).join(" ")} fill="var(--building)" fillOpacity={0.75} />
      ))}
    </svg>
  );
}
