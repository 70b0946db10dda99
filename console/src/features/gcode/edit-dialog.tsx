import { useMutation } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { useNavigate } from "react-router";

import { api, type EditPreview, type FileEdit, type LibraryFile, type LineChange, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Dialog, Field, inputLook } from "../../ui/dialog";
import { duration } from "../../ui/format";
import { useGrams } from "../machines/queries";
import { Refusal } from "../../ui/page";

type Kind = FileEdit["kind"] & string;
export interface EditStart {
  layer: number;
  kind?: Kind;
  object?: string;
}

const KINDS: { kind: Kind; name: string; text: string }[] = [
  { kind: "set", name: "Set heat, fan or speed", text: "From a layer on; what is left empty stays as it is." },
  { kind: "pause", name: "Pause at a layer", text: "The machine waits before that layer until somebody comes." },
  { kind: "skip", name: "Leave an object out", text: "The others are laid as they were." },
  { kind: "repeat", name: "Repeat across the bed", text: "Everything again beside itself, layer by layer, when it fits." },
  { kind: "start-from", name: "Start from a layer", text: "For a part whose lower layers stand on the bed already." },
  { kind: "own-sections", name: "The model's start and end", text: "In place of the file's own." },
  { kind: "lines", name: "Text of lines", text: "Other text in place of a range of lines." },
];

/** Edits of a file: chosen, previewed with what they change, then made its newest revision. */
export function EditDialog({ file, start, close }: { file: LibraryFile; start: EditStart; close: () => void }) {
  const [kind, setKind] = useState<Kind>(start.kind ?? "set");
  const [f, setF] = useState<Record<string, string>>({
    layer: String(start.layer),
    object: start.object ?? file.reading.objects?.[0]?.name ?? "",
    copies: "2",
    gap: "5",
    first: "1",
    last: "1",
    start: "on",
    end: "on",
  });
  const model = file.reading.model ?? "";
  const navigate = useNavigate();
  const which = { params: { path: { which: String(file.id) } } };
  const set = (name: string, v: string) => {
    setF((before) => ({ ...before, [name]: v }));
    preview.reset();
  };
  const number = (name: string) => (f[name] ? Number(f[name]) : null);
  const wish = (): FileEdit => {
    const layer = Number(f.layer);
    switch (kind) {
      case "pause":
        return { kind, layer, message: f.message ?? "" };
      case "skip":
        return { kind, from_layer: 1, object: f.object ?? "" };
      case "repeat":
        return { kind, copies: Number(f.copies), gap_mm: Number(f.gap) };
      case "start-from":
        return { kind, layer };
      case "own-sections":
        return { kind, start: f.start === "on", end: f.end === "on" };
      case "lines":
        return { kind, first: Number(f.first), last: Number(f.last), text: f.text ?? "" };
      default:
        return { kind: "set", layer, nozzle_c: number("nozzle"), bed_c: number("bed"), fan_pct: number("fan"), speed_pct: number("speed") };
    }
  };
  const preview = useMutation({
    mutationFn: () => value(api.POST("/api/files/{which}/preview", { ...which, body: { edit: wish(), model } })),
  });
  const make = useChange(
    () =>
      value(api.POST("/api/files/{which}/edit", { ...which, body: { edit: wish(), model } })).then(() => {
        close();
        void navigate(`/library/files/${file.id}?layer=${f.layer}`);
      }),
    "files",
    "jobs",
  );
  const input = (label: string, name: string, more: Record<string, unknown> = {}, hint?: string) => (
    <Field label={label} hint={hint}>
      <input className={inputLook} value={f[name] ?? ""} onChange={(e) => set(name, e.target.value)} {...more} />
    </Field>
  );
  const layer = input("Layer", "layer", { type: "number", min: 1, max: file.reading.layers, required: true }, `1 to ${file.reading.layers}`);
  const send = (e: FormEvent) => {
    e.preventDefault();
    preview.mutate();
  };
  return (
    <Dialog open wide close={close} title={`Edit ${file.name}`} text="The result becomes the newest revision; the one before stays.">
      <form className="flex flex-col gap-4" onSubmit={send}>
        <Field label="Edit" hint={KINDS.find((k) => k.kind === kind)?.text}>
          <select
            className={inputLook}
            value={kind}
            onChange={(e) => {
              setKind(e.target.value as Kind);
              preview.reset();
            }}
          >
            {KINDS.map((k) => (
              <option key={k.kind} value={k.kind}>
                {k.name}
              </option>
            ))}
          </select>
        </Field>
        {kind === "set" && (
          <>
            {layer}
            <div className="grid grid-cols-4 gap-3">
              {input("Nozzle, °C", "nozzle", { type: "number", min: 0 })}
              {input("Bed, °C", "bed", { type: "number", min: 0 })}
              {input("Fan, %", "fan", { type: "number", min: 0, max: 100 })}
              {input("Speed, %", "speed", { type: "number", min: 1, max: 500 })}
            </div>
          </>
        )}
        {kind === "pause" && (
          <>
            {layer}
            {input("Message at the machine", "message", { maxLength: 60 })}
          </>
        )}
        {kind === "skip" && (
          <Field label="Object">
            <select className={inputLook} value={f.object} onChange={(e) => set("object", e.target.value)}>
              {(file.reading.objects ?? []).map((o) => (
                <option key={o.name}>{o.name}</option>
              ))}
            </select>
          </Field>
        )}
        {kind === "repeat" && (
          <div className="grid grid-cols-2 gap-3">
            {input("How many in all", "copies", { type: "number", min: 2, max: 200, required: true })}
            {input("Between them, mm", "gap", { type: "number", min: 0, required: true })}
          </div>
        )}
        {kind === "start-from" && layer}
        {kind === "own-sections" && (
          <div className="flex gap-6">
            {["start", "end"].map((name) => (
              <label key={name} className="flex items-center gap-2">
                <input type="checkbox" checked={f[name] === "on"} onChange={(e) => set(name, e.target.checked ? "on" : "")} />
                {name}
              </label>
            ))}
          </div>
        )}
        {kind === "lines" && <LinesFields file={file} f={f} set={set} />}
        <Refusal error={preview.error ?? make.error} />
        {preview.data && <Preview preview={preview.data} material={file.reading.declared?.material} />}
        <div className="flex justify-end gap-2">
          <Button kind="quiet" onClick={close}>
            Cancel
          </Button>
          <Button kind={preview.data ? "plain" : "strong"} type="submit" disabled={preview.isPending}>
            {preview.isPending ? "Working it out…" : "Preview"}
          </Button>
          {preview.data && (
            <Button kind="strong" asked={make.isPending} onClick={() => make.mutate(undefined)}>
              Make revision {(file.revision ?? 1) + 1}
            </Button>
          )}
        </div>
      </form>
    </Dialog>
  );
}

interface LinesProps {
  file: LibraryFile;
  f: Record<string, string>;
  set: (name: string, v: string) => void;
}

function LinesFields({ file, f, set }: LinesProps) {
  const [loading, setLoading] = useState(false);
  const load = async () => {
    setLoading(true);
    const first = Number(f.first);
    const count = Math.max(1, Math.min(2000, Number(f.last) - first + 1));
    const found = await value(
      api.GET("/api/contents/{sha256}/text", { params: { path: { sha256: file.sha256 }, query: { first, count } } }),
    );
    set("text", found.lines.join("\n"));
    setLoading(false);
  };
  return (
    <>
      <div className="grid grid-cols-[1fr_1fr_auto] items-end gap-3">
        {(["first", "last"] as const).map((name) => (
          <Field key={name} label={name === "first" ? "First line" : "Last line"}>
            <input
              className={inputLook}
              type="number"
              min={name === "first" ? 1 : 0}
              max={file.reading.lines}
              value={f[name]}
              onChange={(e) => set(name, e.target.value)}
            />
          </Field>
        ))}
        <Button disabled={loading} onClick={() => void load()}>
          Fetch them
        </Button>
      </div>
      <Field label="Text" hint="Empty takes the lines out.">
        <textarea
          className={`${inputLook} min-h-32 py-2 font-mono text-sm`}
          spellCheck={false}
          value={f.text ?? ""}
          onChange={(e) => set("text", e.target.value)}
        />
      </Field>
    </>
  );
}

function Preview({ preview: p, material }: { preview: EditPreview; material: string | undefined }) {
  const grams = useGrams();
  const refused = p.findings.filter((x) => x.severity === "refuse");
  const signed = (n: number, text: string) => (Math.abs(n) < 0.5 ? "as before" : `${n > 0 ? "+" : "−"} ${text}`);
  const ds = p.planned_after_s - p.planned_before_s;
  const dmm = p.filament_after_mm - p.filament_before_mm;
  return (
    <div className="rounded-md bg-sunk px-4 py-3" data-testid="preview">
      <p className="m-0 font-semibold">{p.text}</p>
      {p.care && <p className="mt-1 mb-0 text-alarm">{p.care}</p>}
      <dl className="mt-2 mb-0 grid grid-cols-[auto_1fr_auto] gap-x-4 gap-y-0.5">
        <dt className="text-faded">Time</dt>
        <dd className="m-0">
          {duration(p.planned_before_s)} → <strong>{duration(p.planned_after_s)}</strong>
        </dd>
        <dd className="m-0 text-right text-faded">{signed(ds, duration(Math.abs(ds)))}</dd>
        <dt className="text-faded">Filament</dt>
        <dd className="m-0">
          {grams(p.filament_before_mm, material)} → <strong>{grams(p.filament_after_mm, material)}</strong>
        </dd>
        <dd className="m-0 text-right text-faded">{signed(dmm, grams(Math.abs(dmm), material))}</dd>
      </dl>
      {refused.map((x) => (
        <p key={x.text} className="mt-1.5 mb-0 text-alarm">
          Preflight would refuse it: {x.text}
        </p>
      ))}
      <p className="mt-2 mb-1 text-sm text-faded">{p.count === 1 ? "1 place changes." : `${p.count} places change.`}</p>
      <Changes changes={p.changes.slice(0, 2)} />
    </div>
  );
}

/** Lines before and after. */
export function Changes({ changes }: { changes: LineChange[] }) {
  const lines = (text: string) => (text ? text.split("\n").slice(0, 4) : []);
  return (
    <div className="overflow-x-auto font-mono text-[0.8rem] leading-snug">
      {changes.map((c) => (
        <div key={c.line} className="border-t border-rule py-1 first:border-0">
          <div className="text-faded">line {c.line}</div>
          {lines(c.before).map((t, i) => (
            <div key={`b${i}`} className="whitespace-pre text-alarm">
              − {t}
            </div>
          ))}
          {lines(c.after).map((t, i) => (
            <div key={`a${i}`} className="whitespace-pre text-[var(--building)]">
              + {t}
            </div>
          ))}
        </div>
      ))}
    </div>
  );
}
