import createClient, { type Middleware } from "openapi-fetch";

import type { components, paths } from "./schema";

/** openapi-fetch reads tuples as arrays; so do we. */
type Loose<T> = T extends readonly (infer U)[] ? Loose<U>[] : T extends object ? { [K in keyof T]: Loose<T[K]> } : T;

export type Material = Required<components["schemas"]["Material"]>;
export type Machine = Loose<components["schemas"]["Machine"]>;
export type MachineDetail = Loose<components["schemas"]["MachineDetail"]>;
export type MachineState = components["schemas"]["MachineState"];
export type PersonShown = components["schemas"]["PersonShown"];
export type Right = components["schemas"]["Right"];
export type HeldRole = components["schemas"]["HeldRole"];
export type RoleShown = components["schemas"]["RoleShown"];
export type TeamShown = components["schemas"]["TeamShown"];
export type CreatedInvite = components["schemas"]["CreatedInvite"];
export type Key = components["schemas"]["Key"];
export type Backup = Loose<components["schemas"]["Backup"]>;
export type Backups = Omit<Loose<components["schemas"]["Backups"]>, "backups"> & { backups: Backup[] };
export type BackupSettings = Loose<components["schemas"]["BackupSettings"]>;
export type Camera = Loose<components["schemas"]["Camera"]>;
export type CameraSettings = Loose<components["schemas"]["CameraSettings"]>;
export type KeptFrame = components["schemas"]["KeptFrame"];
export type Film = Loose<components["schemas"]["Film"]>;
export type FilmDetail = Loose<components["schemas"]["FilmDetail"]>;
export type FilmSettings = Loose<components["schemas"]["FilmSettings"]>;
export type FilmRule = Loose<components["schemas"]["FilmRule"]>;
export type PoseRun = Loose<components["schemas"]["PoseRun"]>;
export type HeadAway = components["schemas"]["HeadAway"];
export type Suspicion = Loose<components["schemas"]["Suspicion"]>;
export type FailureMode = components["schemas"]["FailureMode"];
export type Follow = components["schemas"]["Follow"];
export type WatchRule = Loose<components["schemas"]["WatchRule"]>;
export type BedSight = Loose<components["schemas"]["BedSight"]>;
export type CatchRate = components["schemas"]["CatchRate"];
export type Plug = Loose<components["schemas"]["Plug"]>;
export type EnergyRow = components["schemas"]["EnergyRow"];
export type CameraTried = components["schemas"]["CameraTried"];
export type LocalCamera = components["schemas"]["LocalCamera"];
export type Job = Loose<components["schemas"]["Job"]>;
export type Build = components["schemas"]["Build"];
export type LibraryFile = Loose<components["schemas"]["File"]>;
export type FileReading = LibraryFile["reading"];
export type Finding = components["schemas"]["Finding"];
export type Revision = components["schemas"]["Revision"];
export type Part = Loose<components["schemas"]["Part"]>;
export type PartSuggestion = components["schemas"]["PartSuggestion"];
export type Folder = components["schemas"]["Folder"];
export type History = components["schemas"]["History"];
export type EditPreview = Loose<components["schemas"]["EditPreview"]>;
export type FileEdit = components["schemas"]["EditRequest"]["edit"];
export type LineChange = components["schemas"]["LineChange"];
export type Model = Loose<components["schemas"]["MachineModel"]>;
export type Notice = components["schemas"]["Notice"];
export type Gravity = components["schemas"]["Gravity"];
export type NoticeKind = components["schemas"]["NoticeKind"];
export type NoticeAct = components["schemas"]["NoticeAct"];
export type NoticeRule = Loose<components["schemas"]["NoticeRule"]>;
export type NoticeRuleView = Loose<components["schemas"]["NoticeRuleView"]>;
export type Channel = components["schemas"]["Channel"];
export type NoticeSettings = components["schemas"]["NoticeSettings"];
export type LedgerEntry = components["schemas"]["LedgerEntry"];
export type HeatCurve = components["schemas"]["HeatCurve"];
export type HeaterCurve = components["schemas"]["HeaterCurve"];
export type Utilisation = components["schemas"]["Utilisation"];
export type UsageRow = components["schemas"]["UsageRow"];
export type ShopChange = components["schemas"]["ShopChange"];
export type FirstSteps = components["schemas"]["FirstSteps"];
export type FirstStep = components["schemas"]["FirstStep"];
export type SetupDone = components["schemas"]["SetupDone"];
export type ReferenceModel = Loose<components["schemas"]["ReferenceModel"]>;
export type FoundMachine = Loose<components["schemas"]["Found"]>;
export type Join = components["schemas"]["Join"];
export type ShopInfo = components["schemas"]["ShopInfo"];
export type Me = components["schemas"]["Me"];
export type Order = Loose<components["schemas"]["Order"]>;
export type OrderBrief = components["schemas"]["OrderBrief"];
export type NewOrderLine = Loose<components["schemas"]["NewOrderLine"]>;
export type Requirement = Loose<components["schemas"]["Requirement"]>;
/** What any machine meets. */
export const ANY: Requirement = { material: "", colour: "", hardened: false, machine: "", model: "", pool: "", tags: "" };
export type QueueLine = Loose<components["schemas"]["QueueLine"]>;
export type JobWhy = components["schemas"]["JobWhy"];
export type PlanWithForecast = components["schemas"]["PlanWithForecast"];
export type PlannedBuild = components["schemas"]["PlannedBuild"];
export type BedsTogether = components["schemas"]["BedsTogether"];
export type StaffedSpan = components["schemas"]["StaffedSpan"];
export type TimeRange = components["schemas"]["TimeRange"];
export type PromiseWord = NonNullable<OrderBrief["promise"]>;
export type WhatIf = components["schemas"]["WhatIf"];
export type WhatIfAnswer = components["schemas"]["WhatIfAnswer"];
export type Outlook = components["schemas"]["Outlook"];
export type Rounds = components["schemas"]["Rounds"];
export type RoundTask = components["schemas"]["RoundTask"];
export type SiteHours = components["schemas"]["SiteHours"];
export type Planning = components["schemas"]["Planning"];
export type StrategyMeaning = components["schemas"]["StrategyMeaning"];
export type SpoolUpdate = components["schemas"]["SpoolUpdate"];
export type Spool = components["schemas"]["Spool"];
export type Helper = components["schemas"]["Helper"];
export type CreatedHelper = components["schemas"]["CreatedHelper"];
export type SinceYouLeft = components["schemas"]["SinceYouLeft"];
export type TurnaroundSummary = components["schemas"]["TurnaroundSummary"];
export type Problem = components["schemas"]["Problem"];

/** A refused or failed call; its message is a sentence for the person who asked. */
export class CallFailed extends Error {
  constructor(
    readonly status: number,
    message: string,
    /** The same call is carried out once it says `sure`. */
    readonly unsure = false,
    /** What kind of problem it is, where that says what to do. */
    readonly kind = "",
  ) {
    super(message);
  }
}

let csrf = "";
export function setCsrf(token: string) {
  csrf = token;
}

const withCsrf: Middleware = {
  onRequest({ request }) {
    if (request.method !== "GET" && csrf) request.headers.set("X-CSRF-Token", csrf);
  },
};

export const api = createClient<paths, "application/json">({ baseUrl: "/" });
api.use(withCsrf);

/** Asks the person to show again who they are; whether they did. */
let askWho: (() => Promise<boolean>) | null = null;
export function setAskWho(ask: (() => Promise<boolean>) | null) {
  askWho = ask;
}

const sent = new Map<string, Request>();
/** What is refused until one has shown again who one is is sent once more then. */
const shownAgain: Middleware = {
  onRequest({ request, id }) {
    if (request.method !== "GET") sent.set(id, request.clone());
  },
  async onResponse({ response, id }) {
    const again = sent.get(id);
    sent.delete(id);
    if (response.status !== 403 || !again || !askWho) return;
    const problem = (await response.clone().json()) as Partial<Problem>;
    if (problem.type !== "urn:chronarch:show-yourself" || !(await askWho())) return;
    return fetch(again);
  },
  onError({ id }) {
    sent.delete(id);
  },
};
api.use(shownAgain);

export type Answer<T> = { data?: T; error?: unknown; response: Response };

/** The value of an answer; throws CallFailed with the problem's detail. */
export async function value<T>(asked: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await asked;
  } catch {
    throw new CallFailed(0, "The service does not answer. It may be restarting; try again in a moment.");
  }
  if (!answer.response.ok) {
    const problem = answer.error as Partial<Problem> | undefined;
    throw new CallFailed(answer.response.status, problem?.detail ?? `The service answered ${answer.response.status}.`, problem?.type === "urn:chronarch:unsure", problem?.type);
  }
  return answer.data as T;
}

/** Send a file, with progress from 0 to 1. */
export function sendFile(file: File, wish: Record<string, string | number | boolean>, progress: (share: number) => void): Promise<void> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    const query = new URLSearchParams(Object.entries(wish).map(([name, one]) => [name, String(one)]));
    request.open("PUT", `/api/drop/${encodeURIComponent(file.name)}?${query}`);
    request.setRequestHeader("X-CSRF-Token", csrf);
    request.setRequestHeader("Content-Type", "text/x.gcode");
    request.upload.onprogress = (e) => progress(e.lengthComputable ? e.loaded / e.total : 0);
    request.onerror = () => reject(new CallFailed(0, "The connection broke off; send the file again."));
    request.onload = () => {
      const body = JSON.parse(request.responseText || "{}");
      if (request.status < 300) resolve();
      else reject(new CallFailed(request.status, (body as Problem).detail ?? "The file was refused."));
    };
    request.send(file);
  });
}
