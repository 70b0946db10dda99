import { useQuery, useQueryClient } from "@tanstack/react-query";

import { api, value } from "../../api/client";
import { ToldTime } from "../../api/live";
import { Failed, Loading, Sheet } from "../../ui/page";
import { type Judged, Tasks } from "./tasks";

/** The rounds of one site for somebody without an account: the link's secret is behind the # and goes nowhere but into a
 * header. */
export function HelpPage() {
  const token = window.location.hash.slice(1);
  const client = useQueryClient();
  const header = { "X-Helper-Link": token };
  const rounds = useQuery({
    queryKey: ["help", token],
    queryFn: () => value(api.GET("/api/help/rounds", { params: { header } })),
    refetchInterval: 4_000,
    retry: false,
  });
  const judge = async (j: Judged) => {
    await value(
      api.POST("/api/help/builds/{number}/verdict", {
        params: { path: { number: j.build }, header },
        body: { verdict: j.verdict, reason: j.reason, good: j.good },
      }),
    );
    await client.invalidateQueries({ queryKey: ["help"] });
  };
  return (
    <main className="mx-auto max-w-2xl px-4 py-6">
      <div className="mb-5 flex items-center gap-3">
        <img src="/icon.svg" alt="" className="h-7 w-7" />
        <h1 className="m-0 text-[1.6rem] font-semibold">Rounds{rounds.data?.site && `, ${rounds.data.site}`}</h1>
      </div>
      {rounds.error ? (
        <Sheet>
          <Failed error={rounds.error} />
        </Sheet>
      ) : !rounds.data ? (
        <Sheet>
          <Loading />
        </Sheet>
      ) : (
        <>
          <p className="mt-0 mb-5 text-faded">Hello, {rounds.data.helper}. Lift a part off, then say what came of it.</p>
          <ToldTime at={rounds.data.at}>
            <Tasks rounds={rounds.data} judge={judge} />
          </ToldTime>
        </>
      )}
    </main>
  );
}
