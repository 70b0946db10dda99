import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import {
  BufferAttribute,
  BufferGeometry,
  Color,
  DirectionalLight,
  DoubleSide,
  GridHelper,
  HemisphereLight,
  LineBasicMaterial,
  LineSegments,
  Mesh,
  MeshStandardMaterial,
  type Object3D,
  PerspectiveCamera,
  Scene,
  Vector3,
  WebGLRenderer,
} from "three";
import { OrbitControls } from "three/addons/controls/OrbitControls.js";

import { Failed, Loading } from "../ui/page";
import type { BedObject } from "./layer-canvas";
import { fetchBytes } from "./layer-data";

const css = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();

interface LaidProps {
  sha256: string;
  model: string;
  upTo: number;
  bed: [number, number];
  objects: BedObject[];
}

/** What a file lays, as lines shaded by height; up to a layer where one is given. */
export function LaidPart({ sha256, model, upTo, bed, objects }: LaidProps) {
  const shape = useQuery({
    queryKey: ["shape", sha256, model],
    queryFn: () => fetchBytes(`/api/contents/${sha256}/shape?model=${encodeURIComponent(model)}`),
    staleTime: Infinity,
    gcTime: 60_000,
  });
  const build = (buffer: ArrayBuffer): Object3D => {
    const view = new DataView(buffer);
    const count = view.getUint32(4, true);
    const layers = view.getUint32(8, true);
    const lines = new Float32Array(buffer.slice(12, 12 + count * 24));
    const numbers = new Uint16Array(buffer.slice(12 + count * 24, 12 + count * 26));
    const colours = new Float32Array(count * 6);
    const [low, high] = [new Color(css("--building")).multiplyScalar(0.55), new Color(css("--building")).lerp(new Color("#ffffff"), 0.55)];
    const mixed = new Color();
    let drawn = 0;
    for (let i = 0; i < count; i++) {
      if (numbers[i]! <= upTo) drawn = i + 1;
      // lines across the light look darker, which gives the walls their shape
      const dx = lines[6 * i + 3]! - lines[6 * i]!;
      const dy = lines[6 * i + 4]! - lines[6 * i + 1]!;
      const lit = 0.72 + 0.28 * Math.abs(dx) / Math.max(1e-6, Math.hypot(dx, dy));
      mixed.copy(low).lerp(high, numbers[i]! / Math.max(1, layers)).multiplyScalar(lit);
      mixed.toArray(colours, 6 * i);
      mixed.toArray(colours, 6 * i + 3);
    }
    const geometry = new BufferGeometry();
    geometry.setAttribute("position", new BufferAttribute(lines, 3));
    geometry.setAttribute("color", new BufferAttribute(colours, 3));
    geometry.setDrawRange(0, drawn * 2);
    return new LineSegments(geometry, new LineBasicMaterial({ vertexColors: true }));
  };
  return (
    <Turned data={shape.data} error={shape.error} again={() => void shape.refetch()} build={build} bed={bed} objects={objects} about={`${sha256} ${upTo}`} label="The whole part, turned by hand" />
  );
}

/** A part's reference model. */
export function Solid({ part, about }: { part: number; about: string }) {
  const triangles = useQuery({
    queryKey: ["triangles", part, about],
    queryFn: () => fetchBytes(`/api/parts/${part}/triangles`),
    staleTime: Infinity,
  });
  const build = (buffer: ArrayBuffer): Object3D => {
    const geometry = new BufferGeometry();
    geometry.setAttribute("position", new BufferAttribute(new Float32Array(buffer), 3));
    geometry.computeVertexNormals();
    return new Mesh(geometry, new MeshStandardMaterial({ color: css("--building"), roughness: 0.75, side: DoubleSide, flatShading: true }));
  };
  return <Turned data={triangles.data} error={triangles.error} again={() => void triangles.refetch()} build={build} bed={null} objects={[]} about={about} label="The part's model, turned by hand" />;
}

interface TurnedProps {
  data: ArrayBuffer | undefined;
  error: Error | null;
  again: () => void;
  build: (data: ArrayBuffer) => Object3D;
  bed: [number, number] | null;
  /** What to look at; all of it without any. */
  objects: BedObject[];
  about: string;
  label: string;
}

/** A scene that is turned by dragging, zoomed by the wheel, and by the arrow keys when it has the focus. */
function Turned({ data, error, again, build, bed, objects, about, label }: TurnedProps) {
  const place = useRef<HTMLDivElement>(null);
  const camera = useRef<{ position: Vector3; target: Vector3 } | null>(null);
  const [failed, setFailed] = useState("");
  useEffect(() => {
    const there = place.current;
    if (!there || !data) return;
    let renderer: WebGLRenderer;
    try {
      renderer = new WebGLRenderer({ antialias: true, alpha: true });
    } catch {
      setFailed("This browser cannot draw in three dimensions (WebGL is off). The layers can be seen all the same.");
      return;
    }
    there.replaceChildren(renderer.domElement);
    renderer.domElement.setAttribute("role", "img");
    renderer.domElement.setAttribute("aria-label", label);
    const scene = new Scene();
    const object = build(data);
    scene.add(object, new HemisphereLight(0xffffff, 0x8d8570, 2.2));
    const lamp = new DirectionalLight(0xffffff, 1.6);
    lamp.position.set(1, -2, 3);
    scene.add(lamp);
    const geometry = (object as Mesh).geometry;
    geometry.computeBoundingBox();
    const box = geometry.boundingBox!.clone();
    const corners = objects.flatMap((o) => o.outline);
    if (corners.length > 2) {
      const [xs, ys] = [corners.map((q) => q[0]!), corners.map((q) => q[1]!)];
      box.min.set(Math.min(...xs), Math.min(...ys), box.min.z);
      box.max.set(Math.max(...xs), Math.max(...ys), box.max.z);
    }
    const middle = box.getCenter(new Vector3());
    const reach = Math.max(box.getSize(new Vector3()).length(), 10);
    if (bed) {
      const side = Math.max(...bed);
      const grid = new GridHelper(side, Math.round(side / 10), css("--faded"), css("--rule"));
      grid.rotation.x = Math.PI / 2;
      grid.position.set(bed[0] / 2, bed[1] / 2, 0);
      scene.add(grid);
    }
    const eye = new PerspectiveCamera(35, 1, reach / 100, reach * 30);
    eye.up.set(0, 0, 1);
    const controls = new OrbitControls(eye, renderer.domElement);
    eye.position.copy(camera.current?.position ?? middle.clone().add(new Vector3(0.75, -1.25, 0.8).multiplyScalar(reach)));
    controls.target.copy(camera.current?.target ?? middle);
    const paint = () => {
      camera.current = { position: eye.position.clone(), target: controls.target.clone() };
      renderer.render(scene, eye);
    };
    const resize = () => {
      const [w, h] = [there.clientWidth, Math.max(there.clientHeight, 1)];
      renderer.setPixelRatio(window.devicePixelRatio);
      renderer.setSize(w, h);
      eye.aspect = w / h;
      eye.updateProjectionMatrix();
      paint();
    };
    controls.addEventListener("change", paint);
    controls.listenToKeyEvents(there);
    controls.update();
    const watch = new ResizeObserver(resize);
    watch.observe(there);
    return () => {
      watch.disconnect();
      controls.dispose();
      geometry.dispose();
      renderer.dispose();
      renderer.domElement.remove();
    };
    // the scene is made anew for other data alone
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [data, about]);
  if (error) return <Failed error={error} again={again} />;
  if (failed) return <p className="p-8 text-center text-faded">{failed}</p>;
  return (
    <div className="relative h-full w-full">
      {!data && (
        <div className="absolute inset-0">
          <Loading rows={4} />
        </div>
      )}
      <div ref={place} tabIndex={0} className="h-full w-full" />
    </div>
  );
}
