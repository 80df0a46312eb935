import type { Models } from "./types";

export type M = Models;

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
    throw new Problem("The server does not answer. Nothing was lost; try again in a moment.", 0);
  }
  const data = (await response.json().catch(() => null)) as (T & Partial<M["Problem"]>) | null;
  if (!response.ok || data === null)
    throw new Problem(
      data?.error ?? "The server's answer could not be read.",
      response.status,
      data?.place ?? null,
      data?.fits ?? [],
    );
  return data;
}

export const get = <T>(path: string, signal?: AbortSignal) => ask<T>("GET", path, undefined, signal);
export const post = <T>(path: string, body: unknown = {}, signal?: AbortSignal) => ask<T>("POST", path, body, signal);
export const put = <T>(path: string, body: unknown) => ask<T>("PUT", path, body);
export const patch = <T>(path: string, body: unknown) => ask<T>("PATCH", path, body);
export const remove = <T>(path: string) => ask<T>("DELETE", path);
