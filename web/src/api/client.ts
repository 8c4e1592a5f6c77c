import createClient from "openapi-fetch";
import type { components, paths } from "./generated/schema";

export type Schemas = components["schemas"];

/** A mistake the server names: RFC 9457, with the single errors where there are several. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    readonly detail: string,
    readonly errors: unknown[] = [],
  ) {
    super(title);
  }
}

// Writes demand a JSON content type, also those without a body.
export const api = createClient<paths>({ baseUrl: "/", headers: { "content-type": "application/json" } });

/** The data of an answer, or a thrown `Problem`. */
export async function got<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let settled;
  try {
    settled = await answer;
  } catch {
    throw new Problem(0, "The server does not answer.", "Check that it runs and that you are on its network; the page tries again by itself.");
  }
  const { data, error, response } = settled;
  if (response.ok) return data as T;
  const body = (error ?? {}) as { title?: string; detail?: string; errors?: unknown[] };
  throw new Problem(response.status, body.title ?? `The server answered ${response.status}.`, body.detail ?? "", Array.isArray(body.errors) ? body.errors : []);
}
