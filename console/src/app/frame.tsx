import * as Menu from "@radix-ui/react-dropdown-menu";
import { BarChart3, Cctv, CircleUser, ClipboardList, Clock3, FileBox, Footprints, Hand, ListOrdered, Settings2 } from "lucide-react";
import { type ReactNode, useEffect } from "react";
import { Link, NavLink } from "react-router";

import { api, type Me, value } from "../api/client";
import { useLive, useNow } from "../api/live";
import { useChange } from "../api/change";
import { useSignOut } from "../features/access/queries";
import { Portrait } from "../features/access/portrait";
import { NoticesBell } from "../features/notices/bell";
import { TellHere } from "../features/notices/browser";
import { useShop } from "../features/system/queries";
import { clock, day } from "../ui/format";
import { type Theme, useTheme } from "../ui/theme";

const PAGES = [
  { to: "/", name: "Board", icon: Clock3 },
  { to: "/rounds", name: "Rounds", icon: Footprints },
  { to: "/orders", name: "Orders", icon: ClipboardList },
  { to: "/queue", name: "Queue", icon: ListOrdered },
  { to: "/cameras", name: "Cameras", icon: Cctv },
  { to: "/library", name: "Library", icon: FileBox },
  { to: "/records", name: "Records", icon: BarChart3 },
  { to: "/setup", name: "Set-up", icon: Settings2 },
];
/** Have their own entries where there is room; they are reached from other pages as well. */
const WHAT_IF = { to: "/what-if", name: "What if" };
const UPKEEP = { to: "/upkeep", name: "Upkeep" };
const WIDE = [...PAGES.slice(0, -1), UPKEEP, WHAT_IF, ...PAGES.slice(-1)];

/** What stands around every page: the shop, its clock, the pages, notices, and who is signed in. */
export function Frame({ me, children }: { me: Me; children: ReactNode }) {
  const shop = useShop();
  return (
    <div className="min-h-screen">
      <header className="print:hidden sticky top-0 z-30 border-b border-rule bg-ground/95 backdrop-blur">
        <div className="mx-auto flex h-14 max-w-[1500px] items-center gap-4 px-4 sm:px-8">
          <img src="/icon.svg" alt="" className="h-7 w-7" />
          <span className="hidden truncate font-serif text-lg font-semibold lg:block">{shop.data?.name}</span>
          <nav className="hidden h-full gap-1 sm:flex" aria-label="Pages">
            {WIDE.map((p) => (
              <NavLink
                key={p.to}
                to={p.to}
                end={p.to === "/"}
                className={({ isActive }) =>
                  `flex items-center border-b-2 px-2 whitespace-nowrap xl:px-2.5 no-underline ${isActive ? "border-ink font-semibold text-ink" : "border-transparent text-faded hover:text-ink"}`
                }
              >
                {p.name}
              </NavLink>
            ))}
          </nav>
          <div className="ml-auto flex items-center gap-1 sm:gap-3">
            <ShopClock />
            <NoticesBell />
            <Person me={me} />
          </div>
        </div>
        <Away />
        <WantsSecond me={me} />
        <TellHere />
      </header>
      <main>{children}</main>
      <nav
        className="fixed inset-x-0 bottom-0 z-30 flex border-t border-rule bg-sheet sm:hidden print:hidden"
        aria-label="Pages, at the foot"
      >
        {PAGES.map((p) => (
          <NavLink
            key={p.to}
            to={p.to}
            end={p.to === "/"}
            className={({ isActive }) =>
              `flex flex-1 flex-col items-center gap-0.5 py-2 text-xs no-underline ${isActive ? "font-semibold text-ink" : "text-faded"}`
            }
          >
            <p.icon size={20} strokeWidth={1.7} aria-hidden />
            {p.name}
          </NavLink>
        ))}
      </nav>
    </div>
  );
}

function ShopClock() {
  const { rate } = useLive();
  const now = useNow(rate > 1 ? 200 : 1000);
  return (
    <span className="flex items-baseline gap-2 whitespace-nowrap" aria-label="Shop time">
      <span className="hidden text-sm text-faded md:inline">{day(now)}</span>
      <span className="text-lg font-semibold text-brass">{clock(now)}</span>
      {rate !== 1 && (
        <span className="hidden text-sm text-faded md:inline" title={`One real second is ${rate} s here`}>
          × {rate}
        </span>
      )}
      <SimulatedHands />
    </span>
  );
}

/** In the demo: whether somebody simulated does the rounds, and the switch that sends them away. */
function SimulatedHands() {
  const shop = useShop();
  const send = useChange((away: boolean) => value(api.PUT("/api/demo/hands", { body: { away } })), "shop");
  const hands = shop.data?.simulated_hands;
  if (!hands) return null;
  const here = hands === "here";
  return (
    <button
      type="button"
      role="switch"
      aria-checked={here}
      aria-label="Simulated hands do the rounds"
      title={here ? "Simulated hands do the rounds; press to send them away" : "The simulated hands are away; press to have them back"}
      disabled={send.isPending}
      onClick={() => send.mutate(here)}
      className={`hidden h-8 w-8 place-items-center self-center rounded-md hover:bg-sunk md:grid ${here ? "text-ink" : "text-faded"}`}
    >
      <span className="relative">
        <Hand size={18} strokeWidth={1.7} aria-hidden />
        {!here && <span className="absolute top-1/2 -left-0.5 h-[1.7px] w-6 -translate-y-1/2 rotate-45 rounded bg-current" />}
      </span>
    </button>
  );
}

/** Said as long as roles do not count because no second factor was shown. */
function WantsSecond({ me }: { me: Me }) {
  if (!me.wants_second?.length) return null;
  return (
    <div role="status" className="border-t border-rule bg-sunk px-4 py-2 text-center text-sm">
      {me.wants_second.length === 1 ? `Your role ${me.wants_second[0]} counts` : `Your roles ${me.wants_second.join(" and ")} count`} only with a second factor:{" "}
      <Link to="/you" className="text-ink underline">
        add one on your page
      </Link>
      , or sign in again with the one that you have.
    </div>
  );
}

/** Said as long as the live stream is broken: what is shown is as last heard. */
function Away() {
  const { lost } = useLive();
  if (!lost) return null;
  return (
    <div role="status" className="border-t border-rule bg-alarm-wash px-4 py-2 text-center text-sm text-alarm">
      The service does not answer since {clock(lost)}. Builds go on without it; this page shows what was last heard and
      catches up by itself.
    </div>
  );
}

const popup = "fade-in z-50 rounded-lg border border-rule bg-sheet shadow-lg";

function Person({ me }: { me: Me }) {
  const [theme, setTheme] = useTheme();
  const keep = useChange((next: Theme) => value(api.PATCH("/api/me", { body: { theme: next === "system" ? "" : next } })));
  const own = me.theme;
  useEffect(() => {
    if (own) setTheme(own); // what one has chosen goes along to every device
  }, [own, setTheme]);
  const item = "flex cursor-pointer items-center justify-between rounded px-3 py-2 outline-none data-[highlighted]:bg-sunk";
  const signOut = useSignOut();
  return (
    <Menu.Root>
      <Menu.Trigger asChild>
        <button type="button" aria-label={`Signed in as ${me.name}`} className="grid h-10 w-10 place-items-center rounded-md hover:bg-sunk">
          {me.pictured_at ? <Portrait person={me} size={26} /> : <CircleUser size={20} strokeWidth={1.7} aria-hidden />}
        </button>
      </Menu.Trigger>
      <Menu.Portal>
        <Menu.Content align="end" sideOffset={6} className={`${popup} w-56 p-1.5`}>
          <div className="px-3 pt-1.5 pb-2 text-faded">Signed in as {me.name}</div>
          <Menu.RadioGroup value={theme} onValueChange={(t) => {
              setTheme(t as Theme);
              keep.mutate(t as Theme);
            }}>
            {(["light", "dark", "system"] as const).map((t) => (
              <Menu.RadioItem key={t} value={t} className={item} onSelect={(e) => e.preventDefault()}>
                {{ light: "Light", dark: "Dark", system: "As the system" }[t]}
                <Menu.ItemIndicator>✓</Menu.ItemIndicator>
              </Menu.RadioItem>
            ))}
          </Menu.RadioGroup>
          <Menu.Separator className="my-1.5 h-px bg-rule" />
          <Menu.Item asChild className={`${item} text-ink no-underline`}>
            <Link to="/you">Your page</Link>
          </Menu.Item>
          <Menu.Item asChild className={`${item} text-ink no-underline`}>
            <Link to="/notices/rules">What I hear of</Link>
          </Menu.Item>
          <Menu.Item className={item} onSelect={() => void signOut()}>
            Sign out
          </Menu.Item>
        </Menu.Content>
      </Menu.Portal>
    </Menu.Root>
  );
}
