import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { api, type SinceYouLeft, value } from "../../api/client";
import { useNow } from "../../api/live";
import { useSinceYouLeft } from "./queries";
import { Button } from "../../ui/button";
import { soon, when } from "../../ui/format";
import { Sheet } from "../../ui/page";

const SHOWN = 6;
const LOUD = ["failed", "stopped", "down", "paused"];

/** The first look of the day: what ended, failed, waits and was paused meanwhile. Gone once it was read. */
export function Since() {
  const since = useSinceYouLeft();
  const client = useQueryClient();
  const now = useNow(30_000);
  const [all, setAll] = useState(false);
  const s = since.data;
  if (!s?.left) return null;
  const read = async () => {
    client.setQueryData<SinceYouLeft>(["since"], { ...s, left: null });
    await value(api.POST("/api/me/caught-up"));
  };
  const loud = s.items.filter((i) => LOUD.includes(i.kind));
  const items = all ? s.items : [...loud, ...s.items.filter((i) => !LOUD.includes(i.kind))].slice(0, SHOWN);
  return (
    <Sheet className="mb-5">
      <section aria-label="Since you left" className="px-5 py-4">
        <div className="flex flex-wrap items-baseline justify-between gap-3">
          <h2 className="m-0 text-lg font-semibold">Since you left, {when(s.left, now)}</h2>
          <Button kind="quiet" onClick={() => void read()}>
            Read
          </Button>
        </div>
        <p className="mt-1 mb-3">
          <strong>{s.ended}</strong> {s.ended === 1 ? "build" : "builds"} ended, <strong>{s.failed}</strong> failed,{" "}
          <strong>{s.waits}</strong> {s.waits === 1 ? "bed waits" : "beds wait"} to be cleared; machines made parts for{" "}
          <strong>{s.good_hours.toFixed(1)} h</strong>.
        </p>
        <ul className="m-0 list-none p-0">
          {items.map((i, n) => (
            <li key={`${i.at} ${i.machine} ${n}`} className="flex gap-3 py-0.5">
              <span className="w-20 shrink-0 text-faded">{soon(i.at, now)}</span>
              <Link className="w-20 shrink-0 font-semibold text-ink" to={`/machines/${encodeURIComponent(i.machine)}`}>
                {i.machine}
              </Link>
              <span className={`min-w-0 ${LOUD.includes(i.kind) ? "text-alarm" : ""}`}>{i.text}</span>
            </li>
          ))}
        </ul>
        {s.items.length > SHOWN && (
          <button type="button" className="mt-2 text-sm text-faded underline" onClick={() => setAll(!all)}>
            {all ? "fewer" : `all ${s.items.length}`}
          </button>
        )}
      </section>
    </Sheet>
  );
}
