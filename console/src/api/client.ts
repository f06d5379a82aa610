import createClient from 'openapi-fetch';
import { inViewersZone } from '../parts/words';
import type { components, paths } from './schema';

export type Schemas = components['schemas'];

export const api = createClient<paths>({ baseUrl: '/' });

/** A problem in a file, with its position. */
export interface FileProblem {
  line: number;
  column: number;
  message: string;
}

/** A problem that the service returned (RFC 9457). */
export class ServiceProblem extends Error {
  constructor(
    readonly status: number,
    readonly name: string,
    message: string,
    readonly problems: FileProblem[] = [],
  ) {
    super(message);
  }
}

interface Answer<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

/** The data of a successful answer; throws a ServiceProblem otherwise. */
export async function take<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await call;
  } catch {
    throw new ServiceProblem(0, 'no-service', 'The service does not answer. Is it running? This page retries by itself.');
  }
  if (answer.response.ok) return answer.data as T;
  const problem = (answer.error ?? {}) as { type?: string; detail?: string; problems?: FileProblem[] };
  const name = (problem.type ?? '').split(':').at(-1) ?? '';
  throw new ServiceProblem(
    answer.response.status,
    name,
    problem.detail ? inViewersZone(problem.detail) : `The service answered ${answer.response.status}.`,
    problem.problems,
  );
}

/** A text as the body of a call. */
export const asYaml = (text: string) => ({
  body: text,
  bodySerializer: (body: string) => body,
  headers: { 'Content-Type': 'application/yaml' },
});
