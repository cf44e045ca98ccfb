// The service's API, typed by its own OpenAPI document.
import { QueryClient } from '@tanstack/react-query';
import createClient from 'openapi-fetch';
import type { components, paths } from './schema.gen';

export type Schema = components['schemas'];
export type Standing = Schema['Standing'];
export type Row = Schema['StandingRow'];
export type Cell = Schema['StandingCell'];
export type History = Schema['History'];
export type Lane = Schema['Lane'];
export type Meaning = Schema['Meaning'];
export type TrailEntry = Schema['TrailEntry'];

/** Problem is an error as the service tells it (RFC 9457), or one of not having reached it. */
export class Problem extends Error {
  constructor(readonly told: Schema['Problem']) {
    super(told.title);
  }
}

const unreached: Schema['Problem'] = {
  type: 'urn:dovrak:problem:unreachable',
  kind: 'unreachable',
  status: 0,
  title: 'The service cannot be reached',
  seen: 'no answer',
  remedy: 'see that dovrak serve is up; this page goes on by itself',
};

export const api = createClient<paths>({ baseUrl: '/' });

/** take gives the data of an answer, or throws its problem. */
export async function take<T>(asked: Promise<{ data?: T; error?: unknown }>): Promise<T> {
  let answer;
  try {
    answer = await asked;
  } catch {
    throw new Problem(unreached);
  }
  if (answer.data !== undefined) return answer.data;
  const told = answer.error as Schema['Problem'] | undefined;
  throw new Problem(told?.title ? told : unreached);
}

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: Infinity, // what changes is told by the stream of events
      retry: (tries, e) => e instanceof Problem && e.told.kind === 'unreachable' && tries < 20,
      retryDelay: (tries) => Math.min(500 * 2 ** tries, 5000),
    },
  },
});
