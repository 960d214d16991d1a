import { beforeEach, describe, expect, it, vi } from 'vitest'

/** The requests made, and what answers the next one. */
let requests: Request[] = []
let respond: () => Response | Promise<Response> = () => new Response('{}')
vi.stubGlobal('fetch', (request: Request) => {
  requests.push(request)
  return Promise.resolve(respond())
})
const { answer, api, Failure, setCsrfToken, whenSignedOut } = await import('./client')

const json = (body: unknown, status = 200, type = 'application/json') =>
  new Response(JSON.stringify(body), { status, headers: { 'content-type': type } })
const failed = async (request: Promise<unknown>) => {
  const failure = await request.catch((error: unknown) => error)
  expect(failure).toBeInstanceOf(Failure)
  return (failure as InstanceType<typeof Failure>).problem
}

beforeEach(() => {
  requests = []
  setCsrfToken('')
  whenSignedOut(() => {})
})

describe('answers', () => {
  it('are the data of a request that went well', async () => {
    respond = () => json([{ label: 'passage-a' }])
    expect(await answer(api.GET('/api/v1/instances'))).toEqual([{ label: 'passage-a' }])
  })

  it('are problems in the words of the server', async () => {
    const problem = {
      type: 'urn:x',
      title: 'Not there',
      status: 404,
      detail: 'There is no instance 7.',
      errors: [],
    }
    respond = () => json(problem, 404, 'application/problem+json')
    expect(await failed(answer(api.GET('/api/v1/instances')))).toEqual(problem)
  })

  it('say that Hurnix is away when nothing, or something else, answers', async () => {
    respond = () => Promise.reject(new TypeError('network'))
    expect((await failed(answer(api.GET('/api/v1/instances')))).title).toBe('Hurnix does not answer')
    respond = () => json({ message: 'bad gateway' }, 502)
    const problem = await failed(answer(api.GET('/api/v1/instances')))
    expect([problem.title, problem.status]).toEqual(['Hurnix does not answer', 502])
  })
})

describe('requests', () => {
  it('show the session token when they change something, and only then', async () => {
    setCsrfToken('kelp')
    respond = () => json({})
    await api.GET('/api/v1/instances')
    await api.DELETE('/api/v1/session')
    expect(requests.map((request) => request.headers.get('x-csrf-token'))).toEqual([null, 'kelp'])
  })

  it('lead to signing in anew when the session expired, but not while signing in', async () => {
    const ended = vi.fn()
    whenSignedOut(ended)
    respond = () => json({ detail: 'wrong' }, 401)
    await failed(answer(api.POST('/api/v1/session', { body: { name: 'a', password: 'b' } })))
    expect(ended).not.toHaveBeenCalled()
    await failed(answer(api.GET('/api/v1/instances')))
    expect(ended).toHaveBeenCalledOnce()
  })
})
