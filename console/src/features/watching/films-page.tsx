import { useState } from "react";
import { Link } from "react-router";

import { useAddress } from "../../ui/address";
import { size } from "../../ui/format";
import { Empty, Failed, Sheet } from "../../ui/page";
import { More } from "../../ui/more";
import { Pick } from "../../ui/pick";
import { SearchField } from "../../ui/search-field";
import { LibraryFrame } from "../library/library-frame";
import { useMachines } from "../machines/queries";
import { FilmCard } from "./film-card";
import { isBusy, useFilms, useFilmStanding } from "./film-queries";

/** All films, newest first. What is searched for is in the page's address. */
export function FilmsPage() {
  const [get, change] = useAddress();
  const [search, machine] = [get("search"), get("machine")];
  const [watched, setWatched] = useState(true);
  const films = useFilms({ search: search || undefined, machine: machine || undefined, ended: true }, watched);
  const list = films.data ?? [];
  const busy = films.isPending || list.some(isBusy);
  if (busy !== watched) setWatched(busy);
  const machines = (useMachines().data ?? []).map((m) => m.name).sort();
  const standing = useFilmStanding().data;
  const set = (name: string, to: string) => change({ [name]: to });
  return (
    <LibraryFrame
      beside={
        standing && (
          <span className="text-sm text-faded">
            {standing.films} {standing.films === 1 ? "film takes" : "films take"} {size(standing.now_gb * 1e9)} of{" "}
            {standing.share_gb} GB ·{" "}
            <Link to="/setup#films" className="text-faded">
              how they are made
            </Link>
          </span>
        )
      }
    >
      <div className="mb-4 flex flex-wrap items-center gap-2">
        <SearchField label="Search films" hint="File, part, customer, failed…" words={search} change={(w) => set("search", w)} className="min-w-64" />
        <Pick
          label="Machine"
          value={machine}
          choose={(m) => set("machine", m)}
          options={[{ key: "", name: "all machines" }, ...machines.map((m) => ({ key: m, name: m }))]}
        />
      </div>
      {films.error ? (
        <Sheet>
          <Failed error={films.error} again={() => films.refetch()} />
        </Sheet>
      ) : films.isPending ? (
        <div role="status" aria-label="Loading" className={GRID}>
          {Array.from({ length: 8 }, (_, i) => (
            <div key={i} className="aspect-[1/1] rounded-lg bg-sunk" />
          ))}
        </div>
      ) : list.length === 0 ? (
        <Sheet>
          <Empty title={search || machine ? "No film fits" : "No films yet"}>
            {search || machine ? "Take a word away, or choose all machines." : "One is made of each build on a machine with a camera, once it has ended."}
          </Empty>
        </Sheet>
      ) : (
        <>
          <div className={GRID}>
            {list.map((f) => (
              <FilmCard key={f.number} film={f} />
            ))}
          </div>
          <More of={films} />
        </>
      )}
    </LibraryFrame>
  );
}

const GRID = "grid gap-4 grid-cols-1 min-[28rem]:grid-cols-2 lg:grid-cols-3 xl:grid-cols-4";
