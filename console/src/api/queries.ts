/** One hook a query. */
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { queryOf, type Scope } from "../scope";
import { call, CallFailed, type Now, type Status, type Survey } from "./client";

const retry = (failures: number, error: Error) =>
  failures < 2 && !(error instanceof CallFailed && error.status < 500);

/** How the service is; also tells whether somebody is signed in. */
export const useStatus = () =>
  useQuery({ queryKey: ["status"], queryFn: () => call<Status>("status"), refetchInterval: 5_000, retry });

/** What is going on, fresh every two seconds. */
export function useNow(sites: string[]) {
  const query = new URLSearchParams(sites.map((site) => ["site", site]));
  return useQuery({
    queryKey: ["now", sites],
    queryFn: () => call<Now>(`now?${query}`),
    refetchInterval: 2_000,
    placeholderData: keepPreviousData,
    retry,
  });
}

/** Everything counted over a scope, fresh every half minute. */
export function useSurvey(scope: Scope, zone: string) {
  const query = queryOf(scope, zone);
  query.set("step", "hour");
  query.set("top", "200");
  const text = query.toString();
  return useQuery({
    queryKey: ["survey", text],
    queryFn: () => call<Survey>(`survey?${text}`),
    refetchInterval: 30_000,
    placeholderData: keepPreviousData,
    retry,
  });
}
