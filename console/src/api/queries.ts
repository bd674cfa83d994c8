/** One hook a query. */
import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { queryOf, type Scope } from "../scope";
import { call, CallFailed, send, type Ask, type Explanation, type Finding, type Now, type Sites, type Status, type Survey } from "./client";

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

/** What is configured; how often rules have fitted is fresh every few seconds. */
export const useSites = () =>
  useQuery({ queryKey: ["sites"], queryFn: () => call<Sites>("sites"), refetchInterval: 3_000, placeholderData: keepPreviousData, retry });

/** What is wrong with the configuration as its files are now. */
export const useCheck = () => useQuery({ queryKey: ["check"], queryFn: () => call<Finding[]>("check"), refetchInterval: 60_000, retry });

/** Tries a request. */
export const useTry = () => useMutation({ mutationFn: (ask: Ask) => send<Explanation>("explain", ask) });
