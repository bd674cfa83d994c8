/** One hook a query. */
import { keepPreviousData, useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { parametersOf, type Scope } from "../scope";
import { stepOf, spanOf, todayIn } from "../scope/period";
import {
  call,
  CallFailed,
  send,
  type AlertState,
  type AlertTrial,
  type Message,
  type MessageTrial,
  type PastAlert,
  type Recipient,
  type ReportRun,
  type ScheduledReport,
  type Allowances,
  type Ask,
  type Changed,
  type CheckedDraft,
  type ClientTrail,
  type ConfigurationFiles,
  type DraftFile,
  type Errors,
  type PublicationEffect,
  type Explanation,
  type Finding,
  type Findings,
  type Publication,
  type Rehearsed,
  type Remedies,
  type Exposure,
  type ConfigDiagnostic,
  type Job,
  type KnownSetting,
  type LogColumn,
  type Me,
  type Mistake,
  type NamedQuery,
  type NewAlert,
  type NewRule,
  type Now,
  type Preludes,
  type QueryAnswer,
  type QueryFunction,
  type QueryProgress,
  type QueryQuestion,
  type Revision,
  type RevisionFiles,
  type Sites,
  type Source,
  type Status,
  type Survey,
  type Trial,
  type WeighedSite,
  type WrittenRule,
} from "./client";
import type { Table } from "../tables/table";

const retry = (failures: number, error: Error) => failures < 2 && !(error instanceof CallFailed && error.status < 500);

/** What is looked at anew by itself, and kept on the screen until the new is there. */
const fresh = (seconds: number) => ({ refetchInterval: seconds * 1000, placeholderData: keepPreviousData, retry });

const ofSites = (sites: string[]) => new URLSearchParams(sites.map((site) => ["site", site])).toString();

/** How the service is; also tells whether somebody is signed in. */
export const useStatus = () => useQuery({ queryKey: ["status"], queryFn: () => call<Status>("status"), refetchInterval: 5_000, retry });

/** Who is signed in, and what they may do. */
export const useMe = () => useQuery({ queryKey: ["me"], queryFn: () => call<Me>("me"), staleTime: 60_000, retry });

/** What is going on, fresh every two seconds. */
export const useNow = (sites: string[]) => useQuery({ queryKey: ["now", sites], queryFn: () => call<Now>(`now?${ofSites(sites)}`), ...fresh(2) });

/** What of a survey is wanted beside its scope. */
export interface Wanted {
  /** Sections or questions. */
  show: string[];
  /** What lists are ranked by. */
  by?: string;
  /** Whether the figures are wanted in time as well, in the step that fits the period. */
  inTime?: boolean;
}

/** How long lists are. */
export const LONGEST = "200";

/** Everything counted over a scope, fresh every half minute. */
export function useSurvey(scope: Scope, zone: string, wanted: Wanted) {
  const today = todayIn(zone);
  const query = parametersOf(scope, today);
  wanted.show.forEach((section) => query.append("show", section));
  const step = stepOf(spanOf(scope.period, today));
  if (wanted.inTime && step !== "day") {
    query.append("show", "timeline");
    query.set("step", step);
  }
  if (wanted.by && wanted.by !== "requests") query.set("by", wanted.by);
  if (scope.against) query.set("against", scope.against);
  query.set("top", LONGEST);
  const text = query.toString();
  return useQuery({ queryKey: ["survey", text], queryFn: () => call<Survey>(`survey?${text}`), ...fresh(30) });
}

/** What went wrong and why, of a scope. */
export function useErrors(scope: Scope, zone: string) {
  const text = parametersOf(scope, todayIn(zone)).toString();
  return useQuery({ queryKey: ["errors", text], queryFn: () => call<Errors>(`errors?${text}`), ...fresh(30) });
}

/** Bursts of trouble and what was different before; or of one stretch. */
export function usePreludes(scope: Scope, zone: string, of: string) {
  const query = parametersOf(scope, todayIn(zone));
  query.set("of", of);
  const text = query.toString();
  return useQuery({ queryKey: ["preludes", text], queryFn: () => call<Preludes>(`preludes?${text}`), ...fresh(60) });
}

/** What one client did. */
export function useTrail(scope: Scope, zone: string, client: string) {
  const query = parametersOf(scope, todayIn(zone));
  query.set("client", client);
  const text = query.toString();
  return useQuery({ queryKey: ["trail", text], queryFn: () => call<ClientTrail>(`trail?${text}`), enabled: client !== "", ...fresh(30) });
}

/** This month's transfer against what is allowed. */
export const useAllowances = (sites: string[]) =>
  useQuery({ queryKey: ["allowances", sites], queryFn: () => call<Allowances>(`allowances?${ofSites(sites)}`), ...fresh(60) });

/** Where the records come from. */
export const useSources = (sites: string[]) =>
  useQuery({ queryKey: ["sources", sites], queryFn: () => call<Source[]>(`sources?${ofSites(sites)}`), ...fresh(5) });

/** What goes on in the background; only for operators. */
export const useJobs = (enabled: boolean) => useQuery({ queryKey: ["jobs"], queryFn: () => call<Job[]>("jobs"), enabled, ...fresh(10) });

/** The columns that filters know. */
export const useColumns = () => useQuery({ queryKey: ["columns"], queryFn: () => call<LogColumn[]>("columns"), staleTime: Infinity, retry });

/** What is configured; how often rules have fitted is fresh every few seconds. */
export const useSites = () => useQuery({ queryKey: ["sites"], queryFn: () => call<Sites>("sites"), ...fresh(3) });

/** What is wrong with the configuration as its files are now; only for operators. */
export const useCheck = (enabled = true) => useQuery({ queryKey: ["check"], queryFn: () => call<ConfigDiagnostic[]>("check"), refetchInterval: 60_000, retry, enabled });

/** What a stranger could reach of a site, and should not; only for operators. */
/** What compression makes of a site's files. It works for some seconds, so it is asked for. */
export const useWeighing = (site: string, enabled: boolean) =>
  useQuery({
    queryKey: ["weighing", site],
    queryFn: ({ signal }) => call<WeighedSite>(`sites/${encodeURIComponent(site)}/weighing`, { signal }),
    staleTime: Infinity,
    retry: false,
    enabled,
  });

export const useExposures = (site: string, enabled: boolean) =>
  useQuery({
    queryKey: ["exposures", site],
    queryFn: () => call<Exposure[]>(`sites/${encodeURIComponent(site)}/exposures`),
    staleTime: 60_000,
    retry,
    enabled,
  });

/** Tries a request. */
export const useTry = () => useMutation({ mutationFn: (ask: Ask) => send<Explanation>("explain", ask) });

/** Makes an address that is opened once. */
export const useNewTrial = () => useMutation({ mutationFn: (url: string) => send<Trial>("trials", { url }) });

/** What has come by such an address. */
export const useTrial = (id: string | undefined) =>
  useQuery({
    queryKey: ["trial", id],
    queryFn: () => call<Trial>(`trials/${id ?? ""}`),
    enabled: id !== undefined,
    refetchInterval: (query) => (query.state.data?.explanation || query.state.error ? false : 1_000),
    retry: false,
  });

/** The files of the configuration. */
export const useConfiguration = () =>
  useQuery({ queryKey: ["configuration"], queryFn: () => call<ConfigurationFiles>("configuration"), staleTime: Infinity, retry });

/** The settings that there are. */
export const useSettings = () => useQuery({ queryKey: ["settings"], queryFn: () => call<KnownSetting[]>("settings"), staleTime: Infinity, retry });

/** Configurations that were in force. */
/** What is watched, and how it is. */
export const useAlerts = () => useQuery({ queryKey: ["alerts"], queryFn: () => call<AlertState[]>("alerts"), ...fresh(30) });

/** What somebody says about an alert. */
export type AlertChange = { kind: "seen" } | { kind: "speak" } | { kind: "silence"; time: string };

export function useAlertChange(name: string) {
  const client = useQueryClient();
  const path = `alerts/${encodeURIComponent(name)}`;
  return useMutation({
    mutationFn: (change: AlertChange): Promise<unknown> =>
      change.kind === "seen"
        ? send(`${path}/acknowledgement`, {})
        : change.kind === "speak"
          ? call(`${path}/silence`, { method: "DELETE" })
          : send(`${path}/silence`, { time: change.time }),
    onSuccess: () => void client.invalidateQueries({ queryKey: ["alerts"] }),
  });
}

/** When an alert that is not configured yet would have been raised. */
export const useTryAlert = () => useMutation({ mutationFn: (alert: NewAlert) => send<AlertTrial>("alerts/trial", alert) });

/** Puts an alert into the configuration. */
export function useMakeAlert() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: async (alert: NewAlert) => {
      const written = await send<WrittenRule>("configuration/alerts", alert);
      const { files } = await call<ConfigurationFiles>("configuration");
      const version = files.find((file) => file.name === written.name)?.version ?? null;
      return send<Changed>("configuration", { files: [{ name: written.name, text: written.text, version }] });
    },
    onSuccess: () => void client.invalidateQueries(),
  });
}

/** When alerts were raised. */
export const useAlertHistory = () => useQuery({ queryKey: ["alert history"], queryFn: () => call<PastAlert[]>("alert-history"), ...fresh(30) });

/** Who is told, and what they were told. */
export const useRecipients = () => useQuery({ queryKey: ["recipients"], queryFn: () => call<Recipient[]>("recipients"), ...fresh(10) });
export const useMessages = () => useQuery({ queryKey: ["messages"], queryFn: () => call<Message[]>("messages"), ...fresh(10) });

/** Sends a message that says nothing but that it was tried. */
export const useTryRecipient = (name: string) =>
  useMutation({ mutationFn: () => send<MessageTrial>(`recipients/${encodeURIComponent(name)}/trial`, {}) });

/** Tries a message again. */
export function useRetryMessage() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (number: number) => send<Message>(`messages/${number}/retry`, {}),
    onSuccess: () => void client.invalidateQueries({ queryKey: ["messages"] }),
  });
}

/** Reports that are made by themselves, and those that were made. */
export const useScheduledReports = () =>
  useQuery({ queryKey: ["scheduled reports"], queryFn: () => call<ScheduledReport[]>("scheduled-reports"), ...fresh(60) });
export const useReportRuns = () => useQuery({ queryKey: ["report runs"], queryFn: () => call<ReportRun[]>("report-runs"), ...fresh(30) });

/** Makes one at once. */
export function useRunReport(name: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: () => send<ReportRun>(`scheduled-reports/${encodeURIComponent(name)}/run`, {}),
    onSuccess: () => void client.invalidateQueries({ queryKey: ["report runs"] }),
  });
}

/** When an alert would have been raised. It looks at a month, so it is asked for. */
export const useAlertTrial = (name: string, enabled: boolean) =>
  useQuery({
    queryKey: ["alert trial", name],
    queryFn: ({ signal }) => call<AlertTrial>(`alerts/${encodeURIComponent(name)}/trial`, { signal }),
    staleTime: 60_000,
    retry,
    enabled,
  });

export const useRevisions = () =>
  useInfiniteQuery({
    queryKey: ["revisions"],
    queryFn: ({ pageParam }) => call<Revision[]>(pageParam === null ? "revisions" : `revisions?before=${pageParam}`),
    initialPageParam: null as number | null,
    getNextPageParam: (page) => {
      const last = page.at(-1);
      return last && last.number > 1 ? last.number : null;
    },
    retry,
  });

/** The files of one of them. */
export const useRevisionFiles = (number: number | undefined) =>
  useQuery({
    queryKey: ["revision", number],
    queryFn: () => call<RevisionFiles>(`revisions/${number ?? 0}`),
    enabled: number !== undefined,
    staleTime: Infinity,
    retry,
  });

/** What deserves attention in the last four weeks. */
export const useFindings = (sites: string[], least = 10) =>
  useQuery({ queryKey: ["findings", sites, least], queryFn: () => call<Findings>(`findings?${ofSites(sites)}&least=${least}`), ...fresh(60) });

/** Remedies of findings written into the configuration's files; nothing is saved. */
export const useRemedies = (sites: string[], findings: string[], enabled: boolean) =>
  useQuery({
    queryKey: ["remedies", sites, findings],
    queryFn: () => send<Remedies>(`findings/remedies?${ofSites(sites)}`, { findings }),
    enabled: enabled && findings.length > 0,
    retry: false,
  });

/** Sets a finding aside, or tells it again. */
export function useSetAside() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (change: { finding: Finding; reason: string; time?: string; untilDoubled?: boolean } | { back: string }): Promise<unknown> => {
      if ("back" in change) return call(`findings/${encodeURIComponent(change.back)}/aside`, { method: "DELETE" });
      const { finding, reason, time, untilDoubled = false } = change;
      const { title, site, weight } = finding;
      return send(`findings/${encodeURIComponent(finding.id)}/aside`, { reason, time: time ?? null, until_doubled: untilDoubled, title, site, weight });
    },
    onSuccess: () => void client.invalidateQueries({ queryKey: ["findings"] }),
  });
}

/** Runs recorded requests through files as they might be. */
export const useRehearse = () =>
  useMutation({ mutationFn: (files: DraftFile[]) => send<Rehearsed>("rehearsals", { files: files.map(({ name, text }) => ({ name, text })) }) });

/** Changes that were published, and what became of one. */
export const usePublications = (enabled = true) =>
  useQuery({ queryKey: ["publications"], queryFn: () => call<Publication[]>("publications"), enabled, ...fresh(5) });
export const useEffectOf = (revision: number | undefined) =>
  useQuery({
    queryKey: ["effect", revision],
    queryFn: () => call<PublicationEffect>(`publications/${revision ?? 0}/effect`),
    enabled: revision !== undefined,
    ...fresh(30),
  });

/** Checks files as they might be. */
export const checkDraft = (files: DraftFile[]) => send<CheckedDraft>("configuration/check", { files });

/** Writes a rule into a text; nothing is saved. */
export const useWriteRule = () => useMutation({ mutationFn: (rule: NewRule) => send<WrittenRule>("configuration/rules", rule) });

/** Changes what is in force: by files as they might be, or by a revision. */
export function useChange() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (change: { files: DraftFile[]; reason?: string } | { revision: number }) =>
      "files" in change ? send<Changed>("configuration", change) : send<Changed>(`revisions/${change.revision}/restore`, {}),
    onSuccess: () => void client.invalidateQueries(),
  });
}

/** What a statement is answered, of a scope. One who no longer waits stops the work. */
export function useAnswer(scope: Scope, zone: string, id: string) {
  const text = parametersOf(scope, todayIn(zone)).toString();
  const question: QueryQuestion = { statement: scope.statement, id, parameters: {}, mask: false };
  return useQuery({
    queryKey: ["query", text, scope.statement],
    queryFn: ({ signal }) => send<QueryAnswer>(`query?${text}`, question, signal),
    enabled: scope.statement.trim() !== "",
    staleTime: Infinity,
    retry: false,
  });
}

/** How far a question has come. */
export const useProgress = (id: string, isAsked: boolean) =>
  useQuery({
    queryKey: ["query progress", id],
    queryFn: () => call<QueryProgress>(`query/progress?id=${id}`),
    enabled: isAsked,
    refetchInterval: 300,
    retry: false,
  });

/** What is wrong with a statement, as it is written. */
export const useMistakes = (statement: string) =>
  useQuery({
    queryKey: ["query check", statement],
    queryFn: ({ signal }) => send<Mistake[]>("query/check", { statement, parameters: {}, mask: false, id: "" }, signal),
    enabled: statement.trim() !== "",
    staleTime: Infinity,
    placeholderData: keepPreviousData,
    retry: false,
  });

/** The columns of statements: what each means, how full it is and what stands in it most often. */
export function useQueryColumns(scope: Scope, zone: string) {
  const text = parametersOf(scope, todayIn(zone)).toString();
  return useQuery({ queryKey: ["query columns", text], queryFn: () => call<Table>(`query/columns?${text}`), staleTime: 600_000, retry });
}

/** The functions of statements. */
export const useQueryFunctions = () =>
  useQuery({ queryKey: ["query functions"], queryFn: () => call<QueryFunction[]>("query/functions"), staleTime: Infinity, retry });

/** Statements with names. */
export const useNamedQueries = () => useQuery({ queryKey: ["queries"], queryFn: () => call<NamedQuery[]>("queries"), staleTime: 30_000, retry });

/** Keeps a statement under a name. */
export function useKeepQuery() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (query: NamedQuery) => send<NamedQuery>("queries", query),
    onSuccess: () => client.invalidateQueries({ queryKey: ["queries"] }),
  });
}

/** Forgets a statement. */
export function useForgetQuery() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (name: string) => call(`queries/${encodeURIComponent(name)}`, { method: "DELETE" }),
    onSuccess: () => client.invalidateQueries({ queryKey: ["queries"] }),
  });
}
