import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";

import { api, CallFailed, type FailureMode, value } from "../../api/client";
import { Button } from "../../ui/button";
import { Field, inputLook } from "../../ui/dialog";
import { Failed, Loading, Refusal, Sheet } from "../../ui/page";
import { KINDS, OF_BUILDS } from "../watching/watch-queries";
import { ACT } from "./words";

/** What a link of a message would do, and one press to do it. The link's secret is behind the # and goes nowhere but into
 * a header; opening the page does nothing. */
export function ActPage() {
  const token = window.location.hash.slice(1);
  const header = { "X-Act-Link": token };
  const preview = useQuery({
    queryKey: ["act", token],
    queryFn: () => value(api.GET("/api/act", { params: { header } })),
    retry: false,
    refetchOnWindowFocus: false,
  });
  const [mode, setMode] = useState<FailureMode | "">("");
  const act = useMutation({ mutationFn: () => value(api.POST("/api/act", { params: { header, query: mode ? { mode } : {} } })) });
  const found = preview.data;
  const asksWhat = found?.act === "missed";
  return (
    <main className="mx-auto max-w-xl px-4 py-8">
      <div className="mb-5 flex items-center gap-3">
        <img src="/icon.svg" alt="" className="h-7 w-7" />
        <h1 className="m-0 text-[1.6rem] font-semibold">{found ? ACT[found.act] : "From a message"}</h1>
      </div>
      <Sheet className="overflow-hidden">
        {preview.error ? (
          <Failed error={preview.error} again={preview.error instanceof CallFailed ? undefined : () => preview.refetch()} />
        ) : !found ? (
          <Loading rows={3} />
        ) : (
          <div className="flex flex-col gap-4 p-5">
            {found.has_picture && <Picture token={token} />}
            <p className="m-0 font-medium">{found.said}</p>
            {act.data ? (
              <p role="status" className="m-0 rounded-md bg-sunk px-4 py-3">
                Done. {act.data.text}
              </p>
            ) : found.why_not ? (
              <p role="status" className="m-0 rounded-md bg-sunk px-4 py-3">
                {found.why_not}
              </p>
            ) : (
              <>
                <p className="m-0">{found.text}</p>
                {asksWhat && (
                  <Field label="What went wrong" hint={KINDS.find((k) => k.mode === mode)?.says}>
                    <select className={inputLook} value={mode} onChange={(e) => setMode(e.target.value as FailureMode)}>
                      <option value="" disabled>
                        choose
                      </option>
                      {OF_BUILDS.map((k) => (
                        <option key={k.mode} value={k.mode}>
                          {k.name}
                        </option>
                      ))}
                    </select>
                  </Field>
                )}
                <Refusal error={act.error} />
                <Button kind={found.act === "stop" ? "danger" : "strong"} className="min-h-12 text-base" disabled={asksWhat && !mode} asked={act.isPending} onClick={() => act.mutate()}>
                  {ACT[found.act]}
                </Button>
                <p className="m-0 text-sm text-faded">In the name of {found.person}. Nothing happens before you press.</p>
              </>
            )}
            {found.build && (
              <a href={`/builds/${found.build}`} className="text-sm text-faded">
                Open build {found.build} in the console
              </a>
            )}
          </div>
        )}
      </Sheet>
    </main>
  );
}

function Picture({ token }: { token: string }) {
  const [url, setUrl] = useState("");
  useEffect(() => {
    let made = "";
    void fetch("/api/act/picture", { headers: { "X-Act-Link": token } }).then(async (answer) => {
      if (!answer.ok) return;
      made = URL.createObjectURL(await answer.blob());
      setUrl(made);
    });
    return () => URL.revokeObjectURL(made);
  }, [token]);
  return <div className="-mx-5 -mt-5 aspect-video bg-sunk">{url && <img src={url} alt="What the camera saw" className="h-full w-full object-cover" />}</div>;
}
