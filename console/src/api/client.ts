/** Calls of the API. Its types are made from the service's own description of it. */
import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type Allowances = Schemas["Allowances"];
export type Ask = Schemas["Ask"];
export type Changed = Schemas["Changed"];
export type Chart = Schemas["Chart"];
export type CheckedDraft = Schemas["Checked"];
export type ClientTrail = Schemas["ClientTrail"];
export type ConfigurationFile = Schemas["ConfigurationFile"];
export type ConfigurationFiles = Schemas["ConfigurationFiles"];
export type DraftFile = Schemas["DraftFile"];
export type Errors = Schemas["Errors"];
export type Explanation = Schemas["Explanation"];
export type AlertState = Schemas["AlertState"];
export type AlertTrial = Schemas["AlertTrial"];
export type Message = Schemas["Message"];
export type MessageTrial = Schemas["MessageTrial"];
export type NewAlert = Required<Schemas["NewAlert"]>;
export type PastAlert = Schemas["PastAlert"];
export type Recipient = Schemas["Recipient"];
export type Exposure = Schemas["Exposure"];
export type WeighedSite = Schemas["WeighedSite"];
export type WeighedCurve = Schemas["Curve"];
export type ConfigDiagnostic = Schemas["ConfigDiagnostic"];
export type DifferenceLine = Schemas["DifferenceLine"];
export type PublicationEffect = Schemas["PublicationEffect"];
export type Finding = Schemas["Finding"];
export type Findings = Schemas["Findings"];
export type Publication = Schemas["Publication"];
export type Rehearsed = Schemas["Rehearsed"];
export type RehearsalGroup = Schemas["RehearsalGroup"];
export type Remedies = Schemas["Remedies"];
export type Job = Schemas["Job"];
export type KnownSetting = Schemas["KnownSetting"];
export type LogColumn = Schemas["LogColumn"];
export type LogStatus = Schemas["LogStatus"];
export type Me = Schemas["Me"];
export type Mistake = Schemas["Mistake"];
export type MonthTransfer = Schemas["MonthTransfer"];
export type NamedQuery = Schemas["NamedQuery"];
export type NewRule = Schemas["NewRule"];
export type Now = Schemas["Now"];
export type Prelude = Schemas["Prelude"];
export type Preludes = Schemas["Preludes"];
export type Problem = Schemas["Problem"];
export type QueryAnswer = Schemas["QueryAnswer"];
export type QueryFunction = Schemas["QueryFunction"];
export type QueryProgress = Schemas["QueryProgress"];
export type QueryQuestion = Schemas["QueryQuestion"];
export type ReportRun = Schemas["ReportRun"];
export type ScheduledReport = Schemas["ScheduledReport"];
export type Revision = Schemas["Revision"];
export type RevisionFiles = Schemas["RevisionFiles"];
export type Rule = Schemas["Rule"];
export type Setting = Schemas["Setting"];
export type Site = Schemas["Site"];
export type Sites = Schemas["Sites"];
export type Source = Schemas["Source"];
export type Status = Schemas["Status"];
export type Survey = Schemas["Report"];
export type TracedStep = Explanation["steps"][number];
export type Trial = Schemas["Trial"];
export type WrittenRule = Schemas["WrittenRule"];

/** A call that failed, with what the service said about it. */
export class CallFailed extends Error {
  constructor(
    readonly status: number,
    readonly problem: Partial<Problem>,
  ) {
    super(problem.detail ?? problem.title ?? `The service answered ${status}.`);
  }
}

/** Asks for something. */
export async function call<T>(path: string, options?: RequestInit): Promise<T> {
  const answer = await fetch(`/api/v1/${path}`, { ...options, headers: { Accept: "application/json", ...options?.headers } });
  if (!answer.ok) {
    const problem = (await answer.json().catch(() => ({}))) as Partial<Problem>;
    throw new CallFailed(answer.status, problem);
  }
  return (answer.status === 204 ? undefined : await answer.json()) as T;
}

/** Sends something, and takes what comes back. */
export const send = <T>(path: string, body: unknown, signal?: AbortSignal): Promise<T> =>
  call<T>(path, { method: "POST", body: JSON.stringify(body), headers: { "Content-Type": "application/json" }, signal: signal ?? null });
