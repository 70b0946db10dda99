import { useState } from "react";
import { Link } from "react-router";

import { api, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Refusal, Sheet, SheetTitle } from "../../ui/page";
import { FilmCard, FilmWaits } from "./film-card";
import { FilmPlayer } from "./film-player";
import { type FilmFilter, useEveryFilm, useFilm } from "./film-queries";

const FEW = 4;

/** The films of a part or a file, the newest few. */
export function FilmStrip({ of, search }: { of: FilmFilter; search: string }) {
  const films = useEveryFilm({ ...of, ended: true }).data ?? [];
  if (films.length === 0) return null;
  return (
    <Sheet>
      <SheetTitle beside={films.length > FEW ? <Link to={`/library/films?search=${encodeURIComponent(search)}`}>all {films.length}</Link> : undefined}>Films</SheetTitle>
      <div className="grid grid-cols-2 gap-4 px-5 pt-1 pb-5 sm:grid-cols-4">
        {films.slice(0, FEW).map((f) => (
          <FilmCard key={f.number} film={f} />
        ))}
      </div>
    </Sheet>
  );
}

/** The film of a build, to be played where it is; further ones can be had of the frames that are kept. */
export function BuildFilm({ build, ended, frames }: { build: number; ended: boolean; frames: boolean }) {
  const films = useEveryFilm({ build }).data;
  const [chosen, setChosen] = useState<number | null>(null);
  const film = films?.find((f) => f.number === chosen) ?? films?.[0];
  const detail = useFilm(film?.state === "done" ? film.number : undefined).data;
  const ask = useChange(() => value(api.POST("/api/builds/{number}/films", { params: { path: { number: build } }, body: { camera: "" } })), "films");
  if (!films || (!film && !(ended && frames))) return null;
  return (
    <Sheet className="overflow-hidden">
      <SheetTitle beside={film && <Link to={`/library/films/${film.number}`}>keep, download, compare</Link>}>Film</SheetTitle>
      {!film ? (
        <div className="flex items-center gap-4 px-5 pb-4">
          <Button asked={ask.isPending} onClick={() => ask.mutate(undefined)}>
            Make a film
          </Button>
          <span className="text-sm text-faded">of the frames that are kept</span>
          <Refusal error={ask.error} />
        </div>
      ) : detail ? (
        <FilmPlayer key={detail.number} film={detail} />
      ) : (
        <div className="relative h-44 bg-sunk">
          <FilmWaits film={film} />
        </div>
      )}
      {(films?.length ?? 0) > 1 && (
        <p className="m-0 flex flex-wrap gap-x-3 px-4 pb-3 text-sm text-faded">
          {films!.map((f, n) => (
            <button key={f.number} type="button" className={f === film ? "font-semibold text-ink" : "underline"} onClick={() => setChosen(f.number)}>
              {n === films!.length - 1 ? "first" : `film ${f.number}`}
              {f.camera ? ` by ${f.camera}` : ""}
            </button>
          ))}
        </p>
      )}
    </Sheet>
  );
}
