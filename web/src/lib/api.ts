import createClient from 'openapi-fetch'
import type { components, paths } from './schema'
import { shown } from './shown'

export type Schema = components['schemas']
export type Problem = Schema['Problem']

/** The service's own interface; the session cookie goes along by itself. */
export const api = createClient<paths>({ baseUrl: '/api/v1' })

/** Refused is a request that the service did not do, with its reason. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    readonly problem: Problem,
  ) {
    super(problem.title)
  }
}

/** unwrap returns the data of an answer, or throws why there is none. */
export async function unwrap<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let answer
  try {
    answer = await call
  } catch {
    throw new Refused(0, {
      type: 'about:blank',
      status: 0,
      title: 'The service does not answer.',
      fix: 'Check that northstaked runs, then try again.',
    })
  }
  if (answer.data !== undefined || answer.response.ok) return shown(answer.data) as T
  const p = shown(answer.error) as Problem | undefined
  throw new Refused(
    answer.response.status,
    p?.title ? p : { type: 'about:blank', status: answer.response.status, title: `The service answered ${answer.response.status}.` },
  )
}
