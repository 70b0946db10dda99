import { Link } from "react-router";

import { counted, type FigureRow, type FiguresReport, label, linkTo, type MeasureInfo, partName, written } from "./figure-words";
import { Sheet, SheetTitle } from "../../ui/page";

const cell = "px-3 py-2 first:pl-5 last:pr-5 whitespace-nowrap";
const MOST = 200;

/** The figures of a chart as rows: for reading exactly, and for those who do not see the chart. */
export function FigureTable({ report, measure }: { report: FiguresReport; measure: MeasureInfo }) {
  const before = report.rows.some((r) => r.against);
  const ranged = report.rows.some((r) => r.figures[measure.name]?.low != null);
  const row = (r: FigureRow, names: string[]) => {
    const figure = r.figures[measure.name];
    const was = r.against?.[measure.name];
    const to = linkTo(r);
    return (
      <tr key={r.key.join("\n")} className="border-b border-rule align-baseline last:border-0 last:font-semibold">
        {names.map((name, n) => (
          <td key={n} className={`${cell} text-left`}>
            {name}
          </td>
        ))}
        <td className={`${cell} text-right`}>{figure ? written(measure.unit, figure.value) : "–"}</td>
        {ranged && <td className={`${cell} text-right text-faded`}>{figure?.low != null && figure.high != null ? `${written(measure.unit, figure.low)} to ${written(measure.unit, figure.high)}` : ""}</td>}
        {before && <td className={`${cell} text-right text-faded`}>{was ? written(measure.unit, was.value) : "–"}</td>}
        <td className={`${cell} text-left text-faded max-sm:hidden`}>{figure ? counted(figure, measure) : ""}</td>
        <td className={`${cell} text-right font-normal`}>{to && <Link to={to}>builds</Link>}</td>
      </tr>
    );
  };
  const shown = report.rows.slice(0, MOST);
  return (
    <Sheet>
      <SheetTitle beside={report.rows.length > MOST ? `the first ${MOST} of ${report.rows.length}; the CSV has all` : undefined}>The same as a table</SheetTitle>
      <div className="overflow-x-auto pb-2">
        <table className="w-full border-collapse text-sm">
          <thead className="text-faded">
            <tr className="border-b border-rule">
              {report.by.map((part) => (
                <th key={part} className={`${cell} text-left font-medium`}>
                  {partName(part)}
                </th>
              ))}
              <th className={`${cell} text-right font-medium`}>{measure.title}</th>
              {ranged && <th className={`${cell} text-right font-medium`}>19 times in 20</th>}
              {before && <th className={`${cell} text-right font-medium`}>time before</th>}
              <th className={`${cell} text-left font-medium max-sm:hidden`}>worked out from</th>
              <th className={cell}>
                <span className="sr-only">Builds behind it</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {shown.map((r) => row(r, report.by.map((part, n) => label(part, r.key[n] ?? ""))))}
            {row(report.total, report.by.map((_, n) => (n === 0 ? "all" : "")))}
          </tbody>
        </table>
      </div>
    </Sheet>
  );
}
