import { useEffect, useRef } from "react";

export type Size = "full" | "small";

/** One live picture. `at` is shop time, `takenAt` real time, both as the service writes them. */
export interface LiveFrame {
  camera: string;
  size: Size;
  at: string;
  takenAt: string;
  picture: ImageBitmap;
}

interface Wish {
  camera: string;
  size: Size;
  rate: number;
  show: (frame: LiveFrame) => void;
}

const GATHER_MS = 60;
const WAITS_MS = [300, 1000, 2000, 5000];

/**
 * The page's one connection for live pictures. What is wanted is gathered from all that is on the page; nothing is
 * wanted while the page is hidden. Every frame is confirmed once it is drawn, so that none waits in line behind it.
 */
class Looking {
  private wishes = new Set<Wish>();
  private socket: WebSocket | null = null;
  private tries = 0;
  private timer: ReturnType<typeof setTimeout> | undefined;
  private told = "";

  constructor() {
    document.addEventListener("visibilitychange", () => this.tell());
    window.addEventListener("online", () => this.connect());
  }

  see(wish: Wish): () => void {
    this.wishes.add(wish);
    this.tell();
    return () => {
      this.wishes.delete(wish);
      this.tell();
    };
  }

  private tell() {
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.send(), GATHER_MS);
  }

  private wanted() {
    const cameras: Record<string, { size: Size; frames_per_s: number }> = {};
    if (document.visibilityState === "hidden") return cameras;
    for (const w of this.wishes) {
      const other = cameras[w.camera];
      cameras[w.camera] = {
        size: other?.size === "full" ? "full" : w.size,
        frames_per_s: Math.max(w.rate, other?.frames_per_s ?? 0),
      };
    }
    return cameras;
  }

  private send() {
    const cameras = this.wanted();
    if (!this.socket) {
      if (Object.keys(cameras).length) this.connect();
      return;
    }
    const text = JSON.stringify({ kind: "see", cameras });
    if (this.socket.readyState === WebSocket.OPEN && text !== this.told) {
      this.told = text;
      this.socket.send(text);
    }
  }

  private connect() {
    if (this.socket || this.wishes.size === 0) return;
    const url = new URL("/api/looking", window.location.href);
    url.protocol = url.protocol.replace("http", "ws");
    const socket = (this.socket = new WebSocket(url));
    socket.binaryType = "arraybuffer";
    socket.onopen = () => {
      this.told = "";
      this.send();
    };
    socket.onmessage = (e) => void this.take(socket, e.data as ArrayBuffer);
    socket.onclose = () => {
      if (this.socket === socket) this.socket = null;
      const wait = WAITS_MS[Math.min(this.tries, WAITS_MS.length - 1)];
      this.tries += 1;
      setTimeout(() => this.connect(), wait);
    };
  }

  private async take(socket: WebSocket, message: ArrayBuffer) {
    const length = new DataView(message).getUint16(0);
    const head = JSON.parse(new TextDecoder().decode(new Uint8Array(message, 2, length))) as {
      number: number;
      camera: string;
      size: Size;
      at: string;
      taken_at: string;
    };
    this.tries = 0;
    try {
      const picture = await createImageBitmap(new Blob([new Uint8Array(message, 2 + length)], { type: "image/jpeg" }));
      const frame = { camera: head.camera, size: head.size, at: head.at, takenAt: head.taken_at, picture };
      for (const w of this.wishes) if (w.camera === head.camera) w.show(frame);
      picture.close();
    } catch {
      // a picture that cannot be decoded is passed over; the next one may be good
    }
    if (socket.readyState === WebSocket.OPEN) socket.send(JSON.stringify({ kind: "got", number: head.number }));
  }
}

let looking: Looking | null = null;

/** Look at a camera for as long as `on`. `show` draws a frame at once: its picture is closed afterwards. */
export function useLooking(camera: string, size: Size, rate: number, on: boolean, show: (frame: LiveFrame) => void) {
  const latest = useRef(show);
  useEffect(() => {
    latest.current = show;
  });
  useEffect(() => {
    if (!camera || !on) return;
    looking ??= new Looking();
    return looking.see({ camera, size, rate, show: (frame) => latest.current(frame) });
  }, [camera, size, rate, on]);
}
