import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Copy, Send } from "lucide-react";
import { type KeyboardEvent, useEffect, useRef, useState } from "react";
import { Link, useParams } from "react-router";

import { api, CallFailed, value } from "../../api/client";
import { useMay } from "../../api/may";
import { useMachine } from "../machines/queries";
import type { components } from "../../api/schema";
import { Button } from "../../ui/button";
import { Dialog, inputLook } from "../../ui/dialog";
import { Empty, Failed, Loading, Page, Refusal, Sheet } from "../../ui/page";
import { useAct } from "./act";

type LogLine = components["schemas"]["LogLine"];
type Kind = LogLine["kind"];
const KINDS: { kind: Kind; name: string; colour: string }[] = [
  { kind: "file", name: "the file's lines", colour: "var(--ink)" },
  { kind: "own", name: "the tender's own", colour: "var(--building)" },
  { kind: "ok", name: "acknowledged", colour: "var(--faded)" },
  { kind: "heat", name: "heat", colour: "var(--faded)" },
  { kind: "trouble", name: "trouble", colour: "var(--alarm)" },
  { kind: "said", name: "said", colour: "var(--cooling)" },
];
const MOST = 3000;
const stamp = (at: string) => new Date(at).toISOString().slice(11, 23);
const KEY = "chronarch.log";

/** What tender and machine say to each other: both directions, with times; and a line of one's own. */
export function LogPage() {
  const name = useParams().name ?? "";
  const machine = useMachine(name);
  const [search, setSearch] = useState("");
  const [hidden, setHidden] = useState<Kind[]>(() => JSON.parse(sessionStorage.getItem(KEY) ?? '["ok","heat"]') as Kind[]);
  const [follow, setFollow] = useState(true);
  const box = useRef<HTMLOListElement>(null);
  useEffect(() => sessionStorage.setItem(KEY, JSON.stringify(hidden)), [hidden]);
  const cache = useQueryClient();
  const queryKey = ["log", name, search];
  const log = useQuery({
    queryKey,
    queryFn: async () => {
      const before = cache.getQueryData<LogLine[]>(queryKey) ?? [];
      const query = { after: before.at(-1)?.number ?? 0, limit: before.length ? 2000 : 1500, search };
      const found = await value(api.GET("/api/machines/{name}/log", { params: { path: { name }, query } }));
      return [...before, ...found].slice(-MOST);
    },
    refetchInterval: follow ? 700 : false,
    enabled: (query) => follow || !query.state.data?.length,
    gcTime: 0,
  });
  const lines = log.data ?? [];
  const shown = lines.filter((l) => !hidden.includes(l.kind));
  const last = shown.at(-1)?.number;
  useEffect(() => {
    if (follow && box.current) box.current.scrollTop = box.current.scrollHeight;
  }, [last, follow]);
  const copy = () => void navigator.clipboard.writeText(shown.map((l) => `${l.at} ${l.sent ? ">" : "<"} ${l.text}`).join("\n"));
  return (
    <Page
      title={
        <span className="flex items-baseline gap-3">
          <Link to={`/machines/${name}`} className="no-underline">
            {machine.data?.name ?? name}
          </Link>
          <span className="text-xl font-normal text-faded">line log</span>
        </span>
      }
      beside={
        <div className="flex flex-wrap gap-2">
          <Button aria-pressed={!follow} onClick={() => setFollow(!follow)}>
            {follow ? "Hold" : "Follow"}
          </Button>
          <Button onClick={copy} disabled={!shown.length}>
            <Copy size={14} aria-hidden /> Copy
          </Button>
          {machine.data?.build?.outcome && (
            <a className="inline-flex min-h-9 items-center rounded-md border border-rule bg-sheet px-3.5 text-sm font-medium no-underline hover:bg-sunk" href={`/api/builds/${machine.data.build.id}/log`}>
              Whole log of build {machine.data.build.id}
            </a>
          )}
        </div>
      }
    >
      <Sheet className="flex h-[calc(100vh-13rem)] min-h-96 flex-col overflow-hidden">
        <div className="flex flex-wrap items-center gap-x-4 gap-y-2 border-b border-rule px-4 py-2.5">
          <input type="search" aria-label="Search the log" placeholder="Search" className={`${inputLook} !min-h-9 max-w-56 text-sm`} value={search} onChange={(e) => setSearch(e.target.value)} />
          <div className="flex flex-wrap gap-x-3 gap-y-1" role="group" aria-label="Kinds of lines">
            {KINDS.map((k) => (
              <label key={k.kind} className="flex items-center gap-1.5 text-sm">
                <input
                  type="checkbox"
                  checked={!hidden.includes(k.kind)}
                  onChange={() => setHidden(hidden.includes(k.kind) ? hidden.filter((x) => x !== k.kind) : [...hidden, k.kind])}
                />
                {k.name}
              </label>
            ))}
          </div>
        </div>
        {log.error && !lines.length ? (
          <Failed error={log.error} again={() => void log.refetch()} />
        ) : log.isPending ? (
          <Loading rows={8} height="h-7" />
        ) : shown.length === 0 ? (
          <Empty title={search ? "No line holds that" : "Nothing has been said yet"}>
            {lines.length && !search ? "Every kind that was said is left out above." : "Lines appear as soon as tender and machine talk."}
          </Empty>
        ) : (
          <ol ref={box} className="m-0 flex-1 list-none overflow-auto px-4 py-2 font-mono text-[0.8rem] leading-6" aria-label="Lines" tabIndex={0}>
            {shown.map((l) => (
              <li key={l.number} className="flex gap-3 whitespace-pre">
                <span className="text-faded">{stamp(l.at)}</span>
                <span className="text-faded" aria-label={l.sent ? "sent" : "heard"}>
                  {l.sent ? ">" : "<"}
                </span>
                <span className="min-w-0 break-all whitespace-pre-wrap" style={{ color: KINDS.find((k) => k.kind === l.kind)!.colour }}>
                  {l.text}
                </span>
              </li>
            ))}
          </ol>
        )}
        <SendLine name={name} />
      </Sheet>
    </Page>
  );
}

/** One line to the machine; the arrow keys bring back what was sent before. */
function SendLine({ name }: { name: string }) {
  const why = useMay()("send_lines", name);
  const run = useAct(name);
  const [text, setText] = useState("");
  const [sent, setSent] = useState<string[]>([]);
  const [at, setAt] = useState(-1);
  if (why) return <p className="m-0 border-t border-rule px-4 py-3 text-sm text-faded">{why}</p>;
  const unsure = run.error instanceof CallFailed && run.error.unsure;
  const send = (sure: boolean) => {
    if (!text.trim()) return;
    run.mutate(
      { kind: "line", text, sure },
      {
        onSuccess: () => {
          setSent([text, ...sent.filter((x) => x !== text)].slice(0, 50));
          setText("");
          setAt(-1);
        },
      },
    );
  };
  const key = (e: KeyboardEvent) => {
    if (e.key !== "ArrowUp" && e.key !== "ArrowDown") return;
    const next = Math.min(sent.length - 1, Math.max(-1, at + (e.key === "ArrowUp" ? 1 : -1)));
    e.preventDefault();
    setAt(next);
    setText(next < 0 ? "" : sent[next]!);
  };
  return (
    <form
      className="flex flex-wrap items-center gap-2 border-t border-rule px-4 py-3"
      onSubmit={(e) => {
        e.preventDefault();
        send(false);
      }}
    >
      <input
        aria-label="Line to send"
        placeholder="A line to send, as M105"
        className={`${inputLook} !min-h-9 flex-1 font-mono text-sm`}
        value={text}
        onChange={(e) => setText(e.target.value)}
        onKeyDown={key}
        autoComplete="off"
        spellCheck={false}
      />
      <Button type="submit" kind="strong" asked={run.isPending} disabled={!text.trim()}>
        <Send size={14} aria-hidden /> Send
      </Button>
      {run.error && !unsure && (
        <div className="w-full">
          <Refusal error={run.error} />
        </div>
      )}
      <Dialog open={unsure} close={() => run.reset()} title={`Send it to ${name}?`} text={run.error?.message ?? ""}>
        <div className="flex justify-end gap-2">
          <Button kind="quiet" onClick={() => run.reset()}>
            Cancel
          </Button>
          <Button kind="danger" onClick={() => send(true)}>
            Send it
          </Button>
        </div>
      </Dialog>
    </form>
  );
}
