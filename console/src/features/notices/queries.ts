import { useQuery } from "@tanstack/react-query";

import { api, type Gravity, type NoticeKind, type NoticeRule, value } from "../../api/client";
import { useRows } from "../../api/pages";

export interface NoticeFilter {
  open?: boolean;
  least?: Gravity;
  kind?: NoticeKind;
  machine?: string;
  search?: string;
  limit?: number;
}

/** Notices, newest first. */
export const useNotices = (query: NoticeFilter) =>
  useRows(["notices", query], (after) => api.GET("/api/notices", { params: { query: { ...query, after } } }));

export const useNoticesStanding = () =>
  useQuery({ queryKey: ["notices", "standing"], queryFn: () => value(api.GET("/api/notices/standing")) });

export const useNoticeKinds = () =>
  useQuery({ queryKey: ["notice-kinds"], staleTime: Infinity, queryFn: () => value(api.GET("/api/notice-kinds")) });

export const useTold = (number: number) =>
  useQuery({
    queryKey: ["notices", "told", number],
    queryFn: () => value(api.GET("/api/notices/{number}/told", { params: { path: { number } } })),
  });

export const useNoticeRules = () =>
  useQuery({ queryKey: ["notice-rules"], queryFn: () => value(api.GET("/api/notice-rules")) });

export const useChannels = () => useQuery({ queryKey: ["channels"], queryFn: () => value(api.GET("/api/channels")) });

export const useChannelLog = (number: number) =>
  useRows(["channels", "log", number], (after) =>
    api.GET("/api/channels/{number}/log", { params: { path: { number }, query: { after, limit: 20 } } }),
  );

/** What the shop has decided; whether its chat account is signed in is asked again and again. */
export const useNoticeSettings = () =>
  useQuery({
    queryKey: ["setup", "notices"],
    queryFn: () => value(api.GET("/api/notice-settings")),
    refetchInterval: ({ state }) => (state.data?.chat ? 5_000 : false),
  });

/** What a rule would have told in the week before. */
export const useTrial = (rule: NoticeRule, person: string | null) =>
  useQuery({
    queryKey: ["trial", person, rule],
    placeholderData: (before) => before,
    queryFn: () => value(api.POST("/api/notice-rules/try", { body: { rule, person } })),
  });
