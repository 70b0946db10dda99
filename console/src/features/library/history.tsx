import { useHistory, usePaces } from "../ledger/queries";
import { duration } from "../../ui/format";
import { Failed, Sheet, SheetTitle } from "../../ui/page";

/** What became of a file's or part's builds, and how real time stands to plan. */
export function HistorySheet({ kind, which }: { kind: "files" | "parts"; which: string }) {
  const history = useHistory(kind, which);
  const paces = usePaces().data ?? [];
  if (history.error) return <Failed error={history.error} again={() => void history.refetch()} />;
  const h = history.data;
  if (!h) return null;
  const judged = h.good + h.scrap;
  const cell = "px-3 py-1.5 first:pl-5 last:pr-5";
  return (
    <Sheet>
      <SheetTitle
        beside={
          h.builds > 0 &&
          `${h.builds} ${h.builds === 1 ? "build" : "builds"}: ${h.good} good, ${h.scrap} scrap${h.unjudged ? `, ${h.unjudged} unjudged` : ""}`
        }
      >
        History
      </SheetTitle>
      {h.builds === 0 ? (
        <p className="mt-0 px-5 pb-4 text-faded">Never built yet.</p>
      ) : (
        <div className="overflow-x-auto pb-3">
          <table className="w-full border-collapse">
            <thead className="text-sm text-faded">
              <tr className="border-b border-rule">
                <th className={`${cell} text-left font-medium`}>Model</th>
                <th className={`${cell} text-right font-medium`}>Builds</th>
                <th className={`${cell} text-right font-medium`}>Good</th>
                <th className={`${cell} text-right font-medium`}>Scrap</th>
                <th className={`${cell} text-right font-medium`}>Planned</th>
                <th className={`${cell} text-right font-medium`}>Real</th>
                <th className={`${cell} text-right font-medium`}>Real ÷ planned</th>
                <th className={`${cell} hidden text-right font-medium sm:table-cell`}>All builds on it</th>
              </tr>
            </thead>
            <tbody>
              {h.models.map((m) => {
                const learned = paces.find((p) => p.model === m.model);
                return (
                  <tr key={m.model} className="border-b border-rule last:border-0">
                    <td className={cell}>{m.model}</td>
                    <td className={`${cell} text-right`}>{m.builds}</td>
                    <td className={`${cell} text-right`}>{m.good}</td>
                    <td className={`${cell} text-right`}>{m.scrap}</td>
                    <td className={`${cell} text-right whitespace-nowrap`}>{m.completed ? duration(m.planned_s / m.completed) : "–"}</td>
                    <td className={`${cell} text-right whitespace-nowrap`}>{m.completed ? duration(m.real_s / m.completed) : "–"}</td>
                    <td className={`${cell} text-right`}>{m.planned_s > 0 ? (m.real_s / m.planned_s).toFixed(2) : "–"}</td>
                    <td className={`${cell} hidden text-right whitespace-nowrap text-faded sm:table-cell`}>
                      {learned ? `${learned.pace.toFixed(2)} of ${learned.builds}` : "not learned yet"}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
          <p className="mt-2 mb-0 px-5 text-sm text-faded">
            {judged > 0 && `${Math.round((100 * h.good) / judged)} % of judged builds were good. `}
            Where: {Object.entries(h.machines).map(([name, n]) => `${name} ${n}`).join(", ")}.
          </p>
        </div>
      )}
    </Sheet>
  );
}
