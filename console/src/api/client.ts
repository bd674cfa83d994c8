/** Calls of the API. Its types are made from the service's own description of it. */
import type { components } from "./schema.gen";

export type Status = components["schemas"]["Status"];
export type Now = components["schemas"]["Now"];
export type Survey = components["schemas"]["Report"];
export type Problem = components["schemas"]["Problem"];
export type Sites = components["schemas"]["Sites"];
export type Site = components["schemas"]["Site"];
export type Rule = components["schemas"]["Rule"];
export type Setting = components["schemas"]["Setting"];
export type Finding = components["schemas"]["Finding"];
export type Ask = components["schemas"]["Ask"];
export type Explanation = components["schemas"]["Explanation"];
export type TracedStep = Explanation["steps"][number];

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
export const send = <T>(path: string, body: unknown): Promise<T> =>
  call<T>(path, { method: "POST", body: JSON.stringify(body), headers: { "Content-Type": "application/json" } });
