import type { DeletePaths, GetPaths, Models, PatchPaths, PostPaths, PutPaths } from "./types";

export type M = Models;

const AWAY = "The server is not responding. Nothing was lost; try again in a moment.";
/** What a proxy in front of the server answers by itself, which is not the server's JSON. */
const OF_A_PROXY: Record<number, string> = {
  413: "This is larger than the web server in front of this application accepts.",
  429: "Too many requests in a short time. Nothing was lost; wait a moment and try again.",
  502: AWAY,
  503: AWAY,
  504: AWAY,
};

/** What the server says when something is wrong: a sentence, and for rules the place. */
export class Problem extends Error {
  constructor(
    message: string,
    readonly status: number,
    readonly place: number | null = null,
    readonly fits: string[] = [],
  ) {
    super(message);
  }
}

let csrf = "";
export function setCsrf(word: string) {
  csrf = word;
}

async function ask<T>(method: string, path: string, body?: unknown, signal?: AbortSignal): Promise<T> {
  const headers: Record<string, string> = { "X-Meadow-CSRF": csrf };
  const form = body instanceof FormData;
  if (body !== undefined && !form) headers["Content-Type"] = "application/json";
  let response: Response;
  try {
    response = await fetch(`/api${path}`, {
      method,
      headers,
      body: form ? body : body === undefined ? undefined : JSON.stringify(body),
      signal,
    });
  } catch (e) {
    if (e instanceof DOMException) throw e;
    throw new Problem(AWAY, 0);
  }
  const ofProxy = response.headers.get("content-type")?.includes("json") ? undefined : OF_A_PROXY[response.status];
  if (ofProxy) throw new Problem(ofProxy, response.status === 413 ? 413 : 0);
  const data = (await response.json().catch(() => null)) as (T & Partial<M["Problem"]>) | null;
  if (!response.ok || data === null)
    throw new Problem(
      data?.error ?? "The server sent a reply that could not be read. Reload the page.",
      response.status,
      data?.place ?? null,
      data?.fits ?? [],
    );
  return data;
}

type Bare<P extends string> = P extends `${infer Path}?${string}` ? Path : P;
type Of<T, P extends string> = { [K in keyof T]: Bare<P> extends K ? T[K] : never }[keyof T];
type Answer<T, P extends string> = Of<T, P> extends { answer: infer A } ? A : never;
type Body<T, P extends string> = Of<T, P> extends { body: infer B } ? B : never;

/** Each path has its own body and its own answer, as the server describes them: a wrong pair does not compile. */
export const get = <P extends string>(path: P, signal?: AbortSignal) =>
  ask<Answer<GetPaths, P>>("GET", path, undefined, signal);
export const post = <P extends string>(path: P, body?: Body<PostPaths, P>, signal?: AbortSignal) =>
  ask<Answer<PostPaths, P>>("POST", path, body ?? {}, signal);
export const put = <P extends string>(path: P, body: Body<PutPaths, P>) => ask<Answer<PutPaths, P>>("PUT", path, body);
export const patch = <P extends string>(path: P, body: Body<PatchPaths, P>) =>
  ask<Answer<PatchPaths, P>>("PATCH", path, body);
export const remove = <P extends string>(path: P) => ask<Answer<DeletePaths, P>>("DELETE", path);
