import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { api, type Camera, type CameraSettings, type LocalCamera, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { size } from "../../ui/format";
import { useMachine, useMachines } from "../machines/queries";

const PLAIN: CameraSettings = {
  turn: 0,
  mirror: false,
  crop: { left: 0, top: 0, right: 0, bottom: 0 },
  width_px: 0,
  frames_per_s: 5,
  quality: 80,
  light: "",
};
const SIDES = ["left", "top", "right", "bottom"] as const;

/** Add a camera, or change one. It can be tried before anything is kept. */
export function CameraDialog({ camera, close }: { camera?: Camera; close: () => void }) {
  const machines = useMachines().data ?? [];
  const [name, setName] = useState(camera?.name ?? "");
  const [machine, setMachine] = useState(camera ? (camera.machine ?? "") : (machines[0]?.name ?? ""));
  const [site, setSite] = useState(camera?.site ?? "");
  const [place, setPlace] = useState(camera?.place ?? "");
  const [address, setAddress] = useState(camera?.address ?? "");
  const [login, setLogin] = useState(camera?.login ?? "");
  const [password, setPassword] = useState("");
  const [first, setFirst] = useState(camera?.first ?? false);
  const [settings, setSettings] = useState<CameraSettings>({ ...PLAIN, ...camera?.settings });
  const detail = useMachine(machine || machines[0]?.name || "");
  const switches = machine ? (detail.data?.model_detail.switches ?? []).map((s) => s.name) : [];
  const tender = camera?.tender ?? "tender";
  const local = useQuery({
    queryKey: ["local-cameras", tender],
    queryFn: () => value(api.GET("/api/local-cameras", { params: { query: { tender } } })),
    retry: false,
  });
  const moved = camera !== undefined && address !== camera.address;
  const tried = useMutation({
    mutationFn: () =>
      value(
        api.POST("/api/camera-test", {
          body: { address, login, password, tender, camera: camera?.name ?? "", settings: { ...settings, light: "" } },
        }),
      ),
  });
  const point = (to: string) => {
    setAddress(to);
    tried.reset();
  };
  const keep = useChange(
    () => {
      const where = { machine, site, place };
      const secret = password ? { password } : {};
      const wish = camera
        ? value(
            api.PATCH("/api/cameras/{name}", {
              params: { path: { name: camera.name } },
              body: {
                settings,
                ...(name !== camera.name ? { name } : {}),
                ...(machine !== (camera.machine ?? "") ? { machine } : {}),
                ...(machine ? {} : { site, place }),
                ...(moved ? { address } : {}),
                ...(login !== (camera.login ?? "") ? { login } : {}),
                ...(first && !camera.first ? { first: true as const } : {}),
                ...secret,
              },
            }),
          )
        : value(api.POST("/api/cameras", { body: { name: name || machine, address, login, password, tender: machine ? "" : tender, first, settings, ...where } }));
      return wish.then(close);
    },
    "cameras",
    "machine",
    "local-cameras",
  );
  const set = (change: Partial<CameraSettings>) => setSettings((before) => ({ ...before, ...change }));
  const number = (text: string) => Number(text) || 0;
  return (
    <FormDialog
      title={camera ? `Camera ${camera.name}` : "Add a camera"}
      close={close}
      send={() => keep.mutate(undefined)}
      asked={keep.isPending}
      error={keep.error}
      action={camera ? "Set" : "Add it"}
    >
      <div className="grid grid-cols-2 gap-3">
        <Field label="Looks at">
          <select className={inputLook} value={machine} onChange={(e) => setMachine(e.target.value)}>
            {machines.map((m) => (
              <option key={m.name}>{m.name}</option>
            ))}
            <option value="">a room or shelf</option>
          </select>
        </Field>
        <Field label="Name">
          <input className={inputLook} value={name} placeholder={machine} maxLength={60} onChange={(e) => setName(e.target.value)} />
        </Field>
        {!machine && (
          <>
            <Field label="Site">
              <input className={inputLook} value={site} onChange={(e) => setSite(e.target.value)} />
            </Field>
            <Field label="Room or shelf">
              <input className={inputLook} value={place} onChange={(e) => setPlace(e.target.value)} />
            </Field>
          </>
        )}
      </div>
      <Field label="Address" hint="http(s)://… for a snapshot or a stream, rtsp://… for a video">
        <input className={inputLook} value={address} required placeholder="http://192.0.2.7/snapshot.jpg" onChange={(e) => point(e.target.value)} />
      </Field>
      <Local found={local.data ?? []} chosen={address} choose={point} tender={tender} />
      <div className="grid grid-cols-2 gap-3">
        <Field label="Login">
          <input className={inputLook} value={login} autoComplete="off" onChange={(e) => setLogin(e.target.value)} />
        </Field>
        <Field label="Password" hint={camera?.has_password && !moved ? "one is kept; leave it empty to keep it" : undefined}>
          <input className={inputLook} type="password" value={password} autoComplete="new-password" onChange={(e) => setPassword(e.target.value)} />
        </Field>
      </div>
      <details className="rounded-md border border-rule px-3 py-2">
        <summary className="cursor-pointer text-sm font-medium">Picture: turn, cut, size, light</summary>
        <div className="mt-3 grid grid-cols-2 gap-3">
          <Field label="Turned">
            <select className={inputLook} value={settings.turn} onChange={(e) => set({ turn: Number(e.target.value) as CameraSettings["turn"] })}>
              {[0, 90, 180, 270].map((t) => (
                <option key={t} value={t}>
                  {t ? `${t}° clockwise` : "not"}
                </option>
              ))}
            </select>
          </Field>
          <Field label="Most pixels across" hint="0: as it comes">
            <input className={inputLook} type="number" min={0} max={7680} value={settings.width_px} onChange={(e) => set({ width_px: number(e.target.value) })} />
          </Field>
          <Field label="Frames a second" hint="while somebody looks">
            <input className={inputLook} type="number" min={0.2} max={15} step={0.1} value={settings.frames_per_s} onChange={(e) => set({ frames_per_s: number(e.target.value) })} />
          </Field>
          <Field label="JPEG quality" hint="where it is encoded here">
            <input className={inputLook} type="number" min={30} max={95} value={settings.quality} onChange={(e) => set({ quality: number(e.target.value) })} />
          </Field>
          <fieldset className="col-span-2 m-0 border-0 p-0">
            <legend className="mb-1 text-sm font-medium">Cut off at each side, %</legend>
            <div className="grid grid-cols-4 gap-2">
              {SIDES.map((side) => (
                <input
                  key={side}
                  aria-label={`Cut off, ${side}, %`}
                  placeholder={side}
                  className={inputLook}
                  type="number"
                  min={0}
                  max={90}
                  value={settings.crop?.[side] ? Math.round(settings.crop[side] * 100) : ""}
                  onChange={(e) => set({ crop: { ...PLAIN.crop, ...settings.crop, [side]: number(e.target.value) / 100 } })}
                />
              ))}
            </div>
          </fieldset>
          {switches.length > 0 && (
            <Field label="Light" hint="on while somebody looks or it works">
              <select className={inputLook} value={settings.light} onChange={(e) => set({ light: e.target.value })}>
                <option value="">none</option>
                {switches.map((s) => (
                  <option key={s}>{s}</option>
                ))}
              </select>
            </Field>
          )}
          <label className="flex items-center gap-2 self-end pb-2 text-sm">
            <input type="checkbox" checked={settings.mirror} onChange={(e) => set({ mirror: e.target.checked })} /> Left and right swapped
          </label>
        </div>
      </details>
      {machine && (
        <label className="flex items-center gap-2 text-sm">
          <input type="checkbox" checked={first} disabled={camera?.first} onChange={(e) => setFirst(e.target.checked)} /> It stands for {machine} on the board
        </label>
      )}
      <div className="flex flex-col gap-2">
        <Button className="self-start" disabled={!address} asked={tried.isPending} onClick={() => tried.mutate()}>
          Try it
        </Button>
        {tried.error && (
          <p role="alert" className="m-0 rounded-md bg-alarm-wash px-3 py-2 text-sm break-words text-alarm">
            {tried.error.message}
          </p>
        )}
        {tried.data && (
          <figure className="m-0">
            <img src={`data:image/jpeg;base64,${tried.data.jpeg}`} alt="What the camera sees" className="max-h-64 w-full rounded-md bg-sunk object-contain" />
            <figcaption className="mt-1 text-sm text-faded">
              {tried.data.width} × {tried.data.height} px, {size(tried.data.size)}, in {tried.data.took_s.toFixed(1)} s
              {tried.data.warning && <span className="block text-alarm">{tried.data.warning}.</span>}
            </figcaption>
          </figure>
        )}
      </div>
    </FormDialog>
  );
}

/** Cameras at the tender's own computer, each with what it sees, so that a person can say which machine that is. */
function Local({ found, chosen, choose, tender }: { found: LocalCamera[]; chosen: string; choose: (address: string) => void; tender: string }) {
  if (found.length === 0) return null;
  return (
    <fieldset className="m-0 border-0 p-0">
      <legend className="mb-1 text-sm font-medium">Plugged in at {tender}</legend>
      <div className="grid grid-cols-3 gap-2">
        {found.map((one) => (
          <button
            key={one.address}
            type="button"
            aria-pressed={one.address === chosen}
            onClick={() => choose(one.address)}
            className="overflow-hidden rounded-md border border-rule bg-ground text-left text-sm aria-pressed:border-ink aria-pressed:ring-1 aria-pressed:ring-ink"
          >
            <LocalPicture one={one} tender={tender} />
            <span className="block truncate px-2 pt-1">{one.name || "camera"}</span>
            <span className="block truncate px-2 pb-1 text-faded">{one.serial ? `no. ${one.serial}` : "no serial number"}</span>
          </button>
        ))}
      </div>
    </fieldset>
  );
}

function LocalPicture({ one, tender }: { one: LocalCamera; tender: string }) {
  const picture = useQuery({
    queryKey: ["local-cameras", tender, one.address, one.camera],
    queryFn: async () => {
      if (one.camera) return `/api/cameras/${encodeURIComponent(one.camera)}/frame?size=small`;
      const tried = await value(api.POST("/api/camera-test", { body: { address: one.address, login: "", password: "", tender, camera: "", settings: PLAIN } }));
      return `data:image/jpeg;base64,${tried.jpeg}`;
    },
    retry: false,
    staleTime: Infinity,
  });
  return (
    <span className="relative block aspect-[4/3] bg-sunk">
      {picture.data ? (
        <img src={picture.data} alt="" className="h-full w-full object-cover" />
      ) : (
        <span className="grid h-full place-items-center px-1 text-center text-xs text-faded">{picture.error ? "no picture" : "…"}</span>
      )}
      {one.camera && <span className="absolute right-1 bottom-1 rounded bg-sheet/90 px-1.5 text-xs">{one.camera}</span>}
    </span>
  );
}
