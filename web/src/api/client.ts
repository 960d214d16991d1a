import createClient, { type Middleware } from 'openapi-fetch'
import type { components, paths } from './schema'

export type Schemas = components['schemas']
export type Problem = Schemas['Problem']

let csrfToken = ''
let onSignedOut: () => void = () => {}

/** The token that requests which change something must show. */
export function setCsrfToken(token: string): void {
  csrfToken = token
}

/** What to do when the session has ended. */
export function whenSignedOut(handler: () => void): void {
  onSignedOut = handler
}

const session: Middleware = {
  onRequest({ request }) {
    if (request.method !== 'GET') request.headers.set('x-csrf-token', csrfToken)
    return request
  },
  onResponse({ response, request }) {
    const signingIn = request.method === 'POST' && request.url.endsWith('/session')
    if (response.status === 401 && !signingIn) onSignedOut()
    return response
  },
}

// What fetches is asked for at each request, so that a test can stand in for it at any time.
export const api = createClient<paths>({ baseUrl: '/', fetch: (request) => globalThis.fetch(request) })
api.use(session)

/** A failed request, with the problem in the words of the server. */
export class Failure extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail)
  }
}

const unreachable: Problem = {
  type: 'urn:hurnix:problem:unreachable',
  title: 'Hurnix does not answer',
  status: 0,
  detail: 'The program may have been stopped, or the network is down. The page tries again by itself.',
  errors: [],
}

/** The answer of a request, or a [`Failure`]. */
export async function answer<T>(
  request: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T> {
  let result
  try {
    result = await request
  } catch {
    throw new Failure(unreachable)
  }
  if (result.response.ok) return result.data as T
  const problem = result.error as Partial<Problem> | undefined
  throw new Failure(
    problem?.detail ? (problem as Problem) : { ...unreachable, status: result.response.status },
  )
}
