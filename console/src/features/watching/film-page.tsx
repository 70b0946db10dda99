import { Download, Lock, LockOpen, Share2, Trash2 } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";

import { api, type FilmDetail, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useNow } from "../../api/live";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { duration, size, when } from "../../ui/format";
import { Fact, Failed, Loading, Page, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { FilmWaits } from "./film-card";
import { FilmPair } from "./film-pair";
import { filmAddress, FilmPlayer } from "./film-player";
import { filmWords, useEveryFilm, useFilm } from "./film-queries";

/** One film: play it, keep it, take it away; or another beside it. */
export function FilmPage() {
  const number = Number(useParams().number);
  const film = useFilm(Number.isInteger(number) ? number : 0);
  if (film.data) return <Known key={film.data.number} film={film.data} />;
  return (
    <Page title="Film">
      <Sheet>{film.error ? <Failed error={film.error} again={() => film.refetch()} /> : <Loading rows={8} />}</Sheet>
    </Page>
  );
}

function Known({ film: f }: { film: FilmDetail }) {
  const now = useNow(5000);
  const [asked, setAsked] = useSearchParams();
  const beside = Number(asked.get("beside")) || undefined;
  const other = useFilm(beside);
  const alike = (useEveryFilm(f.part_id ? { part: f.part_id } : { file: f.file_id }).data ?? []).filter((o) => o.number !== f.number && o.state === "done");
  return (
    <Page
      title={
        <span className="flex flex-col">
          <Link to="/library/films" className="text-sm font-normal text-faded">
            Films
          </Link>
          {f.part || f.file}
        </span>
      }
      beside={<Actions film={f} />}
    >
      <div className="grid gap-5 lg:grid-cols-[minmax(0,1fr)_20rem]">
        <Sheet className="min-w-0 self-start overflow-hidden">
          {f.state !== "done" ? (
            <div className="relative aspect-[4/3] bg-sunk">
              <FilmWaits film={f} />
            </div>
          ) : beside && other.data?.state === "done" ? (
            <FilmPair films={[f, other.data]} />
          ) : (
            <FilmPlayer film={f} />
          )}
          <Refusal error={beside ? other.error : null} />
        </Sheet>
        <div className="flex flex-col gap-5">
          <Sheet>
            <SheetTitle>
              <Link to={`/builds/${f.build}`}>Build {f.build}</Link>
            </SheetTitle>
            <dl className="m-0 px-5 pb-4">
              <Fact name="Machine">
                <Link to={`/machines/${encodeURIComponent(f.machine)}`}>{f.machine}</Link>
              </Fact>
              <Fact name="File">
                <Link to={`/library/files/${f.file_id}`} className="break-all">
                  {f.file}
                </Link>
              </Fact>
              {f.customer && (
                <Fact name="Order">
                  <Link to={`/orders/${f.order}`}>{f.customer}</Link>
                </Fact>
              )}
              <Fact name="Came to">
                <span className={f.outcome === "completed" ? "" : "text-alarm"}>{[f.outcome, f.verdict].filter(Boolean).join(", ") || "it runs"}</span>
              </Fact>
              {f.ended_at && <Fact name="Ended">{when(f.ended_at, now)}</Fact>}
              {f.began_at && f.ended_at && <Fact name="Took">{duration((Date.parse(f.ended_at) - Date.parse(f.began_at)) / 1000)}</Fact>}
            </dl>
          </Sheet>
          <Sheet>
            <SheetTitle>This film</SheetTitle>
            <dl className="m-0 px-5 pb-4">
              <Fact name="Shows">{filmWords(f.settings)}</Fact>
              <Fact name="Camera">{f.camera}</Fact>
              {f.state === "done" && (
                <Fact name="Size">
                  {f.width} × {f.height}, {size(f.size)}
                </Fact>
              )}
              {f.kept && <Fact name="Kept">it stays when room is needed</Fact>}
            </dl>
          </Sheet>
          {f.state === "done" && alike.length > 0 && (
            <Sheet className="px-5 py-3">
              <Field label={`Another film of this ${f.part ? "part" : "file"} beside it`} hint="Both are shown in step by layer.">
                <select
                  className={inputLook}
                  value={beside ?? ""}
                  onChange={(e) => setAsked(e.target.value ? { beside: e.target.value } : {}, { replace: true })}
                >
                  <option value="">none</option>
                  {alike.map((o) => (
                    <option key={o.number} value={o.number}>
                      build {o.build}, {o.machine}, {o.outcome}
                      {o.ended_at ? `, ${when(o.ended_at, now)}` : ""}
                    </option>
                  ))}
                </select>
              </Field>
            </Sheet>
          )}
        </div>
      </div>
    </Page>
  );
}

function Actions({ film: f }: { film: FilmDetail }) {
  const navigate = useNavigate();
  const [removing, setRemoving] = useState(false);
  const path = { path: { number: f.number } };
  const keep = useChange((kept: boolean) => value(api.PATCH("/api/films/{number}", { params: path, body: { kept } })), "films");
  const remove = useChange(
    () => value(api.DELETE("/api/films/{number}", { params: path })).then(() => void navigate("/library/films")),
    "films",
  );
  const name = `${f.file.replace(/\.[^.]*$/, "")}-${f.machine}-build-${f.build}.${f.settings.form}`;
  const share = useChange(async () => {
    const data = await (await fetch(filmAddress(f.number))).blob();
    await navigator.share({ files: [new File([data], name, { type: data.type })], title: f.part || f.file }).catch((e: Error) => {
      if (e.name !== "AbortError") throw e;
    });
  });
  const canShare = typeof navigator.canShare === "function" && navigator.canShare({ files: [new File([], name, { type: `video/${f.settings.form}` })] });
  return (
    <div className="flex flex-wrap items-center gap-2">
      <Refusal error={keep.error ?? share.error} />
      {f.state === "done" && (
        <>
          <a
            href={filmAddress(f.number)}
            download={name}
            className="inline-flex min-h-9 items-center gap-2 rounded-md border border-rule bg-sheet px-3.5 text-sm font-medium text-ink no-underline hover:bg-sunk"
          >
            <Download size={16} aria-hidden /> Download
          </a>
          {canShare && (
            <Button asked={share.isPending} onClick={() => share.mutate(undefined)}>
              <Share2 size={16} aria-hidden /> Share…
            </Button>
          )}
          <Button asked={keep.isPending} onClick={() => keep.mutate(!f.kept)} title={f.kept ? "It may go when room is needed" : "It stays when room is needed"}>
            {f.kept ? <LockOpen size={16} aria-hidden /> : <Lock size={16} aria-hidden />} {f.kept ? "Keep no longer" : "Keep"}
          </Button>
        </>
      )}
      <Button kind="danger" onClick={() => setRemoving(true)}>
        <Trash2 size={16} aria-hidden /> Remove…
      </Button>
      {removing && (
        <FormDialog
          title={`Remove the film of build ${f.build}?`}
          text="The film is gone for good. The frames that are still kept stay."
          close={() => setRemoving(false)}
          send={() => remove.mutate(undefined)}
          asked={remove.isPending}
          error={remove.error}
          action="Remove it"
          kind="danger"
        >
          <></>
        </FormDialog>
      )}
    </div>
  );
}
