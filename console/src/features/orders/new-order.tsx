import { Trash2 } from "lucide-react";
import { useState } from "react";
import { useNavigate } from "react-router";

import { api, type NewOrderLine, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useEveryFile, useEveryPart } from "../library/queries";
import { useStock } from "./queries";
import { Button } from "../../ui/button";
import { Dialog, Field, inputLook } from "../../ui/dialog";
import { type Needs, NeedsFields, NO_NEEDS, requirement } from "./needs";
import { Refusal } from "../../ui/page";
import { TimeField } from "../../ui/time-field";
import { fromLocal } from "../../ui/format";

interface Draft {
  key: number;
  what: string;
  quantity: number;
  needs: Needs;
  fromStock: number;
}

const blank = (key: number): Draft => ({ key, what: "", quantity: 1, needs: NO_NEEDS, fromStock: 0 });

/** A draft as the service wants it. */
function line(d: Draft): NewOrderLine {
  const [kind, name] = [d.what.slice(0, 4), d.what.slice(5)];
  return {
    ...(kind === "part" ? { part: name } : { file: name }),
    quantity: d.quantity,
    requirement: requirement(d.needs),
    from_stock: d.fromStock,
    note: "",
  };
}

/** An order in one page: who, by when, and its lines. */
export function NewOrder({ close }: { close: () => void }) {
  const parts = useEveryPart().data ?? [];
  const files = (useEveryFile().data ?? []).filter((f) => !f.part);
  const stock = useStock().data ?? [];
  const [customer, setCustomer] = useState("");
  const [due, setDue] = useState("");
  const [notBefore, setNotBefore] = useState("");
  const [note, setNote] = useState("");
  const [priority, setPriority] = useState(0);
  const [tags, setTags] = useState("");
  const [lines, setLines] = useState([blank(0)]);
  const navigate = useNavigate();
  const make = useChange(async () => {
    const made = await value(
      api.POST("/api/orders", {
        body: {
          customer,
          note,
          priority,
          tags: tags.split(",").map((t) => t.trim()).filter(Boolean),
          held: false,
          due: due ? fromLocal(due).toISOString() : null,
          not_before: notBefore ? fromLocal(notBefore).toISOString() : null,
          lines: lines.filter((d) => d.what).map(line) as never,
        },
      }),
    );
    close();
    void navigate(`/orders/${made.id}`);
  }, "orders", "jobs", "plan");
  const set = (key: number, change: Partial<Draft>) => setLines(lines.map((d) => (d.key === key ? { ...d, ...change } : d)));
  const has = (d: Draft) =>
    stock.filter((s) => `part:${s.part}` === d.what || `file:${s.file}` === d.what).reduce((n, s) => n + s.pieces, 0);
  const ready = customer.trim() !== "" && lines.some((d) => d.what);
  return (
    <Dialog open close={close} title="New order" wide>
      <form
        className="flex flex-col gap-4"
        onSubmit={(e) => {
          e.preventDefault();
          if (ready) make.mutate(undefined);
        }}
      >
        <div className="grid gap-4 sm:grid-cols-2">
          <Field label="Customer">
            <input className={inputLook} autoFocus value={customer} maxLength={120} onChange={(e) => setCustomer(e.target.value)} />
          </Field>
          <Field label="Due">
            <TimeField value={due} change={setDue} />
          </Field>
          <Field label="Not before">
            <TimeField value={notBefore} change={setNotBefore} />
          </Field>
          <Field label="Priority">
            <select className={inputLook} value={priority} onChange={(e) => setPriority(Number(e.target.value))}>
              <option value={1}>before others</option>
              <option value={0}>as usual</option>
              <option value={-1}>after others</option>
            </select>
          </Field>
        </div>
        <div className="grid gap-4 sm:grid-cols-2">
          <Field label="Note">
            <input className={inputLook} value={note} maxLength={2000} onChange={(e) => setNote(e.target.value)} />
          </Field>
          <Field label="Tags">
            <input className={inputLook} value={tags} placeholder="standing order, school" onChange={(e) => setTags(e.target.value)} />
          </Field>
        </div>
        <fieldset className="m-0 flex flex-col gap-3 border-0 p-0">
          <legend className="mb-1 text-sm font-medium">Lines</legend>
          {lines.map((d, n) => (
            <div key={d.key} className="rounded-md border border-rule p-3">
              <div className="grid grid-cols-[1fr_5.5rem_2.5rem] gap-2">
                <select aria-label={`Line ${n + 1}: what`} className={inputLook} value={d.what} onChange={(e) => set(d.key, { what: e.target.value, fromStock: 0 })}>
                  <option value="">choose a part or file</option>
                  <optgroup label="Parts">
                    {parts.map((p) => (
                      <option key={p.id} value={`part:${p.name}`}>
                        {p.name}
                      </option>
                    ))}
                  </optgroup>
                  {files.length > 0 && (
                    <optgroup label="Files">
                      {files.map((f) => (
                        <option key={f.id} value={`file:${f.name}`}>
                          {f.name}
                        </option>
                      ))}
                    </optgroup>
                  )}
                </select>
                <input
                  aria-label={`Line ${n + 1}: quantity`}
                  className={inputLook}
                  type="number"
                  min={1}
                  max={10000}
                  value={d.quantity}
                  onChange={(e) => set(d.key, { quantity: Number(e.target.value) })}
                />
                <button
                  type="button"
                  aria-label={`Remove line ${n + 1}`}
                  className="grid place-items-center rounded-md text-faded hover:bg-sunk disabled:opacity-30"
                  disabled={lines.length === 1}
                  onClick={() => setLines(lines.filter((x) => x.key !== d.key))}
                >
                  <Trash2 size={16} />
                </button>
              </div>
              <div className="mt-2">
                <NeedsFields of={`Line ${n + 1}`} value={d.needs} set={(change) => set(d.key, { needs: { ...d.needs, ...change } })} />
              </div>
              {has(d) > 0 && (
                <label className="mt-2 flex items-center gap-2 text-sm">
                  <input
                    type="checkbox"
                    checked={d.fromStock > 0}
                    onChange={(e) => set(d.key, { fromStock: e.target.checked ? Math.min(has(d), d.quantity) : 0 })}
                  />
                  Take {Math.min(has(d), d.quantity)} of the {has(d)} in stock
                </label>
              )}
            </div>
          ))}
          <div>
            <Button onClick={() => setLines([...lines, blank(Math.max(...lines.map((d) => d.key)) + 1)])}>Another line</Button>
          </div>
        </fieldset>
        <Refusal error={make.error} />
        <div className="flex justify-end gap-2">
          <Button kind="quiet" onClick={close}>
            Cancel
          </Button>
          <Button kind="strong" type="submit" asked={make.isPending} disabled={!ready}>
            Make the order
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
