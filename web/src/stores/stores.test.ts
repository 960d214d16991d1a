import { createPinia, setActivePinia } from 'pinia'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'

let answers: Record<string, { status: number; body: unknown }> = {}
let asked: string[] = []
vi.stubGlobal('fetch', (request: Request) => {
  const key = `${request.method} ${new URL(request.url).pathname}`
  asked.push(key + new URL(request.url).search)
  const { status, body } = answers[key + new URL(request.url).search] ??
    answers[key] ?? { status: 404, body: { detail: 'no such thing' } }
  const text = status === 204 ? null : JSON.stringify(body)
  return Promise.resolve(new Response(text, { status, headers: { 'content-type': 'application/json' } }))
})

/** Stands for the browser's stream of events. */
class Stream {
  static last: Stream | null = null
  onmessage: ((event: { data: string }) => void) | null = null
  onopen: (() => void) | null = null
  onerror: (() => void) | null = null
  isClosed = false
  constructor(readonly address: string) {
    Stream.last = this
  }
  close(): void {
    this.isClosed = true
  }
  tell(instance_id: number, news = 'activity'): void {
    this.onmessage?.({ data: JSON.stringify({ instance_id, news }) })
  }
}
vi.stubGlobal('EventSource', Stream)
const { useRoster } = await import('./roster')
const { useSession } = await import('./session')

beforeEach(() => {
  setActivePinia(createPinia())
  vi.useFakeTimers()
  ;[answers, asked] = [{}, []]
})
afterEach(() => vi.useRealTimers())

describe('the roster', () => {
  const passage = { instance_id: 3, label: 'passage-a' }
  const freight = { instance_id: 4, label: 'freight' }
  const told = (as_of: string, order: number[], ...changed: unknown[]) =>
    (answers['GET /api/v1/roster'] = { status: 200, body: { as_of, order, changed } })
  beforeEach(() => told('06:10', [3], passage))

  it('finds instances by label', async () => {
    const roster = useRoster()
    await roster.refresh()
    expect(roster.byLabel.get('passage-a')).toEqual(passage)
  })

  it('keeps what it knows while Hurnix is away, and says so', async () => {
    const roster = useRoster()
    await roster.refresh()
    answers['GET /api/v1/roster'] = {
      status: 503,
      body: { title: 'Away', detail: 'The repository is away.' },
    }
    await roster.refresh()
    expect(roster.instances).toEqual([passage])
    expect(roster.problem?.title).toBe('Away')
  })

  it('fetches all once, and then only lines that changed; the others stay what they were', async () => {
    const roster = useRoster()
    told('06:10', [3, 4], passage, freight)
    await roster.refresh()
    const before = roster.instances[0]
    told('06:11', [4, 3], { ...freight, health: 'act' })
    await roster.refresh()
    expect(asked).toEqual(['GET /api/v1/roster', 'GET /api/v1/roster?since=06%3A10'])
    expect(roster.instances.map((one) => [one.label, one.health])).toEqual([
      ['freight', 'act'],
      ['passage-a', undefined],
    ])
    expect(roster.instances[1] === before).toBe(true)
    told('06:12', [3])
    await roster.refresh()
    expect(roster.instances).toEqual([passage])
  })

  it('fetches all again when it does not know one of the list', async () => {
    const roster = useRoster()
    await roster.refresh()
    told('06:10', [3, 4], passage, freight)
    answers['GET /api/v1/roster?since=06%3A10'] = {
      status: 200,
      body: { as_of: '06:10', order: [3, 4], changed: [] },
    }
    await roster.refresh()
    expect(roster.instances).toEqual([passage, freight])
  })

  it('tells a burst of news once by its kind, and asks anew once where the list shows it', async () => {
    const roster = useRoster()
    roster.listen()
    roster.listen()
    const stream = Stream.last!
    ;[3, 3, 4, 3].forEach((id) => stream.tell(id))
    stream.tell(3, 'log')
    expect(roster.news).toEqual({})
    await vi.advanceTimersByTimeAsync(2000)
    expect(roster.news).toEqual({ 3: { activity: 1, log: 1 }, 4: { activity: 1 } })
    expect(asked).toEqual(['GET /api/v1/roster'])
    stream.tell(3, 'log')
    await vi.advanceTimersByTimeAsync(2000)
    expect(roster.news).toEqual({ 3: { activity: 1, log: 2 }, 4: { activity: 1 } })
    expect(asked).toHaveLength(1)
    roster.stop()
    expect(stream.isClosed).toBe(true)
  })
})

describe('the stream of news', () => {
  const turn = (visibility: 'visible' | 'hidden') => {
    Object.defineProperty(document, 'visibilityState', { value: visibility, configurable: true })
    document.dispatchEvent(new Event('visibilitychange'))
  }
  beforeEach(() => {
    const body = { as_of: null, order: [3], changed: [{ instance_id: 3, label: 'a' }] }
    answers['GET /api/v1/roster'] = { status: 200, body }
  })

  it('is closed while nobody sees the page, and catches up after that', async () => {
    const roster = useRoster()
    await roster.refresh()
    roster.listen()
    const first = Stream.last!
    turn('hidden')
    expect(first.isClosed).toBe(true)
    turn('visible')
    const second = Stream.last!
    expect([second === first, second.isClosed]).toEqual([false, false])
    await vi.advanceTimersByTimeAsync(2000)
    expect(Object.values(roster.news[3]!)).toEqual([1, 1, 1, 1, 1, 1, 1, 1])
    // Left behind for another page, and come back to.
    window.dispatchEvent(new Event('pagehide'))
    expect(second.isClosed).toBe(true)
    window.dispatchEvent(new Event('pageshow'))
    expect(Stream.last!.isClosed).toBe(false)
    roster.stop()
    const last = Stream.last!
    turn('hidden')
    turn('visible')
    expect([last.isClosed, Stream.last === last]).toEqual([true, true])
  })
})

describe('the session', () => {
  const current = { name: 'harbourmaster', role: 'administrator', csrf_token: 'kelp' }

  it('is taken up where the browser still has it, and asked for once', async () => {
    answers['GET /api/v1/session'] = { status: 200, body: current }
    const session = useSession()
    expect([await session.resume(), await session.resume()]).toEqual([true, true])
    expect(asked).toEqual(['GET /api/v1/session'])
    expect(session.current?.name).toBe('harbourmaster')
  })

  it('is not there when it expired', async () => {
    answers['GET /api/v1/session'] = { status: 401, body: { detail: 'Sign in first.' } }
    expect(await useSession().resume()).toBe(false)
  })

  it('begins and ends', async () => {
    answers['POST /api/v1/session'] = { status: 200, body: current }
    answers['DELETE /api/v1/session'] = { status: 204, body: null }
    const session = useSession()
    await session.signIn('harbourmaster', 'lantern')
    expect(session.current?.role).toBe('administrator')
    await session.signOut()
    expect(session.current).toBeNull()
  })
})
