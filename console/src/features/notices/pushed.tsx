import { api, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Refusal } from "../../ui/page";

export const NOT_ALLOWED = "The browser does not allow it for this address; change that beside the address.";

const bytes = (text: string) => Uint8Array.from(atob(text.replaceAll("-", "+").replaceAll("_", "/")), (c) => c.charCodeAt(0));

/** Subscribe to what the service pushes, in the service's own name. */
async function subscribed(key: string) {
  await navigator.serviceWorker.register("/push-worker.js");
  const { pushManager } = await navigator.serviceWorker.ready;
  const asked = { userVisibleOnly: true, applicationServerKey: bytes(key) };
  try {
    return await pushManager.subscribe(asked);
  } catch (error) {
    const before = await pushManager.getSubscription();
    if (!before) throw error;
    await before.unsubscribe(); // it was made with a key that the service no longer has
    return await pushManager.subscribe(asked);
  }
}

async function reachHere() {
  if ((await Notification.requestPermission()) !== "granted") throw new Error(NOT_ALLOWED);
  const { key } = await value(api.GET("/api/push-key", {}));
  const { endpoint, keys } = (await subscribed(key)).toJSON();
  if (!endpoint || !keys?.p256dh || !keys.auth) throw new Error("The browser gave no address to push to.");
  const name = /Android|iPhone|iPad|Windows|Macintosh|Linux/.exec(navigator.userAgent)?.[0] ?? "";
  await value(api.POST("/api/channels", { body: { kind: "push", name, address: endpoint, keys: { p256dh: keys.p256dh, auth: keys.auth } } }));
}

/** Whether this browser is reached while no page of the console is open: it is then a channel like others. */
export function Pushed() {
  const add = useChange(reachHere, "channels", "notice-rules");
  if (!("serviceWorker" in navigator) || !("PushManager" in window))
    return <p className="m-0 text-sm text-faded">To be reached here while no page is open, open the console over https, or install it.</p>;
  return (
    <div className="mt-2 flex flex-wrap items-center gap-3">
      <Button asked={add.isPending} onClick={() => add.mutate(undefined)}>
        Reach me here while no page is open
      </Button>
      {add.isSuccess && <span className="text-sm text-faded">This browser is one of your ways now.</span>}
      {add.error && <Refusal error={add.error} />}
    </div>
  );
}
