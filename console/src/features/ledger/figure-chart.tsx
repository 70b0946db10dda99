import { type MouseEvent, useCallback } from "react";
import { useNavigate } from "react-router";

import { type BuildDot, DRAWN, rowsOf } from "./figure-drawings";
import type { Kind } from "./figure-kinds";
import type { FiguresReport, MeasureInfo } from "./figure-words";
import { useDrawn } from "../../ui/drawn";

interface Props {
  report: FiguresReport;
  measure: MeasureInfo;
  kind: Kind;
  builds: BuildDot[];
}

/** Draws one measure; a press on what is drawn opens the builds behind it. */
export default function FigureChart({ report, measure, kind, builds }: Props) {
  const draw = useCallback(
    (width: number) => {
      const drawn = DRAWN[kind]({ rows: rowsOf(report, measure), report, measure, width, builds });
      drawn.setAttribute("aria-label", `${measure.title}; the table below has the same figures`);
      return drawn;
    },
    [report, measure, kind, builds],
  );
  const host = useDrawn(draw);
  const navigate = useNavigate();
  const follow = (event: MouseEvent) => {
    const link = (event.target as Element).closest("a");
    const to = link?.getAttribute("href") ?? link?.getAttributeNS("http://www.w3.org/1999/xlink", "href");
    if (!to || event.ctrlKey || event.metaKey) return;
    event.preventDefault();
    navigate(to);
  };
  return <div ref={host} className="min-h-40 w-full overflow-hidden" onClick={follow} />;
}
