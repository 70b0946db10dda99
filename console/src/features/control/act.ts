import { api, value } from "../../api/client";
import { useChange } from "../../api/change";
import type { components } from "../../api/schema";

type S = components["schemas"];
export type Action =
  | S["Home"]
  | S["Move"]
  | S["Feed"]
  | S["Adjust"]
  | S["Preset"]
  | S["Switch"]
  | S["MotorsOff"]
  | S["RunSequence"]
  | S["Filament"]
  | S["SendLine"]
  | S["MeasureBed"]
  | S["AnswerPrompt"];

/** Have a machine do something; done once the machine has. */
export const act = (name: string, action: Action) =>
  value(api.POST("/api/machines/{name}/do", { params: { path: { name } }, body: action }));

export const useAct = (name: string, ...touches: string[]) =>
  useChange((action: Action) => act(name, action), "machine", "changes", ...touches);
