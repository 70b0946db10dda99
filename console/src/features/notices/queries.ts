import { useQuery } from "@tanstack/react-query";

import { api, value } from "../../api/client";

export const useNotices = () =>
  useQuery({ queryKey: ["notices"], queryFn: () => value(api.GET("/api/notices", { params: { query: {} } })) });
