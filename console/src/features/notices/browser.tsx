import { useEffect, useRef, useState } from "react";

import { Sheet, SheetTitle } from "../../ui/page";
import { NOT_ALLOWED, Pushed } from "./pushed";
import { useNotices } from "./queries";
import { asksForHands } from "./words";

const KEPT = "notices-here";

interface Here {
  show: boolean;
  sound: boolean;
}

function kept(): Here {
  try {
    return { show: false, sound: false, ...(JSON.parse(localStorage.getItem(KEPT) ?? "{}") as Partial<Here>) };
  } catch {
    return { show: false, sound: false };
  }
}

/** Two notes, the second higher: heard across a room, and over at once. */
function ring() {
  const audio = new AudioContext();
  for (const [n, pitch] of [660, 880].entries()) {
    const [tone, loud] = [audio.createOscillator(), audio.createGain()];
    tone.frequency.value = pitch;
    const at = audio.currentTime + n * 0.18;
    loud.gain.setValueAtTime(0.0001, at);
    loud.gain.exponentialRampToValueAtTime(0.25, at + 0.02);
    loud.gain.exponentialRampToValueAtTime(0.0001, at + 0.35);
    tone.connect(loud).connect(audio.destination);
    tone.start(at);
    tone.stop(at + 0.4);
  }
  setTimeout(() => void audio.close(), 1200);
}

/** Wherever one is in the console: what newly asks for hands is shown by the browser, and heard, where that is wished. */
export function TellHere() {
  const open = useNotices({ open: true, least: "act", limit: 50 }).data;
  const newest = useRef<number | null>(null);
  useEffect(() => {
    if (!open) return;
    const top = Math.max(0, ...open.map((n) => n.id));
    const before = newest.current;
    newest.current = Math.max(before ?? 0, top);
    if (before === null) return;
    const fresh = open.filter((n) => n.id > before && asksForHands(n));
    const wish = kept();
    if (fresh.length === 0) return;
    if (wish.sound) ring();
    if (wish.show && "Notification" in window && Notification.permission === "granted") {
      const text = fresh.length === 1 ? fresh[0]!.text : `${fresh.length} notices ask for hands`;
      new Notification(document.title, { body: text, tag: "notices" });
    }
  }, [open]);
  return null;
}

/** What this browser does when something newly asks for hands. */
export function ThisBrowser() {
  const [here, setHere] = useState(kept);
  const [refused, setRefused] = useState(false);
  const set = (next: Here) => {
    localStorage.setItem(KEPT, JSON.stringify(next));
    setHere(next);
  };
  const show = async (wanted: boolean) => {
    const granted = !wanted || ("Notification" in window && (await Notification.requestPermission()) === "granted");
    setRefused(!granted);
    set({ ...here, show: wanted && granted });
  };
  return (
    <Sheet className="min-w-0">
      <SheetTitle>In this browser</SheetTitle>
      <div className="flex flex-col gap-1 px-5 pb-4">
        <label className="flex min-h-9 items-center gap-2">
          <input type="checkbox" checked={here.show} onChange={(e) => void show(e.target.checked)} />
          Show what newly asks for hands, over other windows too
        </label>
        <label className="flex min-h-9 items-center gap-2">
          <input
            type="checkbox"
            checked={here.sound}
            onChange={(e) => {
              if (e.target.checked) ring();
              set({ ...here, sound: e.target.checked });
            }}
          />
          Ring
        </label>
        <p className="m-0 text-sm text-faded">{refused ? NOT_ALLOWED : "As long as a page of the console is open."}</p>
        <Pushed />
      </div>
    </Sheet>
  );
}
