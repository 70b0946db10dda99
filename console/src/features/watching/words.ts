import type { Camera } from "../../api/client";
import { percent } from "../../ui/format";

/** What is made of a camera's picture, in words. */
export function settingsInWords({ settings: s }: Pick<Camera, "settings">): string {
  if (!s) return "as it comes";
  const cut = Math.max(s.crop?.left ?? 0, s.crop?.top ?? 0, s.crop?.right ?? 0, s.crop?.bottom ?? 0);
  const said = [
    s.turn ? `turned by ${s.turn}°` : "",
    s.mirror ? "mirrored" : "",
    cut ? `up to ${percent(cut)} cut off` : "",
    s.width_px ? `${s.width_px} px wide at most` : "",
    s.light ? `${s.light} on for pictures` : "",
  ].filter(Boolean);
  return said.join(", ") || "as it comes";
}
