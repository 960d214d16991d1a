import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import type { Schemas } from '../api/client'
import { instance, roster, server, show, stubServer } from '../testing/page'
import { lanes, placed } from './lanes'

stubServer()
const { default: BlockingPage } = await import('./BlockingPage.vue')

const session = (process: number) => ({
  process,
  started_at: '2026-03-01T05:00:00Z',
  account: 'skerry_gate',
  program: 'gate scanner',
  client: '',
  database: 'passage',
})
const wait = (
  process: number,
  lane: number,
  change: Partial<Schemas['LockWait']> = {},
): Schemas['LockWait'] => ({
  session: session(process),
  family_id: '7',
  statement: 'update crossing',
  mode: 'ShareLock',
  kind: 'transactionid',
  table: 'public.crossing',
  lane,
  behind: null,
  is_queued: false,
  depth: 1,
  from: '2026-03-01T06:00:00Z',
  to: '2026-03-01T06:00:30Z',
  lost_seconds: 30,
  ...change,
})
const holdUp = (
  waits: Schemas['LockWait'][],
  change: Partial<Schemas['HoldUp']> = {},
): Schemas['HoldUp'] => ({
  holder: { ...session(340), program: 'gate desk' },
  is_prepared: false,
  is_circle: false,
  family_id: '9',
  statement: 'select crossing for update',
  transaction_started_at: '2026-03-01T05:59:00Z',
  from: '2026-03-01T06:00:00Z',
  to: '2026-03-01T06:01:00Z',
  goes_on: true,
  idle_share: 1,
  lost_seconds: 90,
  most_waiting: waits.length,
  unasked: 0,
  depth: 2,
  waits,
  further_waits: 0,
  repairs: [
    { pattern: 'idle_in_transaction', evidence: 'The holder was idle.', step: 'End the transaction.' },
  ],
  ...change,
})
const answer = (hold_ups: Schemas['HoldUp'][], brief = 0) => ({
  looks: 60,
  looks_since: null,
  looked_at: '2026-03-01T06:01:00Z',
  lost_seconds: 90,
  count: hold_ups.length + brief,
  hold_ups,
  brief: { count: brief, lost_seconds: brief, under_seconds: 5 },
  by_table: [{ table: 'public.crossing', mode: 'ShareLock', lost_seconds: 90, waits: 3 }],
  by_statement: [{ family_id: '7', statement: 'update crossing', lost_seconds: 90, waits: 3 }],
  lengths: [
    { from_seconds: 0, waits: 2, lost_seconds: 2 },
    { from_seconds: 2, waits: 1, lost_seconds: 88 },
  ],
  by_holder: [{ account: 'skerry_gate', program: 'gate desk', lost_seconds: 90, waits: 3 }],
})

describe('lanes', () => {
  it('set those who wait for a waiter in below it, and lose nobody', () => {
    const order = lanes(holdUp([wait(1, 340), wait(2, 340), wait(3, 1), wait(4, 999, { depth: 3 })]))
    expect(order.map(({ wait, depth, holds }) => [wait.session.process, depth, holds])).toEqual([
      [1, 1, true],
      [3, 2, false],
      [2, 1, false],
      [4, 3, false],
    ])
  })

  it('of a circle show each once', () => {
    expect(lanes(holdUp([wait(340, 2), wait(2, 340)], { is_circle: true }))).toHaveLength(2)
  })

  it('lie in time where they were', () => {
    const span = { from: Date.parse('2026-03-01T06:00:00Z'), to: Date.parse('2026-03-01T06:01:00Z') }
    expect(placed('2026-03-01T06:00:15Z', '2026-03-01T06:00:45Z', span)).toEqual({ left: 25, width: 50 })
    expect(placed('2026-03-01T06:00:15Z', '2026-03-01T06:00:15Z', span).width).toBeGreaterThan(0)
  })
})

describe('blocking', () => {
  beforeEach(() => {
    server.answers = {
      'GET /api/v1/session': { name: 'mate', role: 'reader', groups: [], csrf_token: 'kelp' },
      'GET /api/v1/roster': roster(instance()),
      'GET /api/v1/instances/1/deadlocks': {
        deadlocks: [],
        deadlock_count: 0,
        timeouts: [],
        timeout_count: 0,
      },
      'GET /api/v1/instances/1/hold-ups': answer([
        holdUp([wait(1, 340), wait(3, 1, { depth: 2 })]),
        holdUp([wait(8, 12)], { holder: session(12), goes_on: false, from: '2026-03-01T05:00:00Z' }),
      ]),
    }
  })

  it('draws the worst, folds the others, and tells a reader who may end the holder', async () => {
    const { wrapper } = await show(BlockingPage, '/on/passage-a/diagnose/blocking')
    const [worst, other] = wrapper.findAll('[data-test=hold-ups]')
    expect(worst!.text()).toContain('held up 2 sessions, 2 deep')
    expect(worst!.text()).toContain('goes on')
    expect(worst!.text()).toContain('an administrator may end the holder')
    expect(worst!.findAll('.lanes .waits')).toHaveLength(2)
    expect(other!.find('.lanes').exists()).toBe(false)
    await other!.get('button').trigger('click')
    expect(other!.find('.lanes').exists()).toBe(true)
    expect(wrapper.text()).toContain('public.crossing')
    expect(wrapper.findAll('[data-test=wait-lengths] tbody tr')).toHaveLength(2)
  })

  it('tells brief ones together, and asks for them one by one', async () => {
    server.answers['GET /api/v1/instances/1/hold-ups'] = answer([holdUp([wait(1, 340)])], 1)
    const { wrapper, router } = await show(BlockingPage, '/on/passage-a/diagnose/blocking')
    expect(wrapper.text()).toMatch(/1 brief hold-up cost 1\ss together, under 5 s each/)
    await wrapper
      .findAll('button')
      .find((one) => one.text() === 'Show them')!
      .trigger('click')
    await flushPromises()
    expect(router.currentRoute.value.query.brief).toBe('yes')
    expect(server.asked.some((url) => url.searchParams.get('brief') === 'true')).toBe(true)
  })

  it('says what would keep it from coming back, and narrows to a table', async () => {
    const { wrapper, router } = await show(BlockingPage, '/on/passage-a/diagnose/blocking')
    expect(wrapper.get('.repairs').text()).toContain('The holder was idle.End the transaction.')
    await wrapper
      .findAll('button.narrow')
      .find((one) => one.text() === 'public.crossing')!
      .trigger('click')
    await flushPromises()
    expect(router.currentRoute.value.query.table).toBe('public.crossing')
    expect(wrapper.get('.chip').text()).toContain('waits for public.crossing')
  })

  it('draws a deadlock as a loop, and leaves one that cannot be told as it is written', async () => {
    const party = (process: number, held_by: number) => ({
      process,
      held_by,
      wanted: 'ShareLock on transaction 9',
      statement: 'update vehicle_slot',
    })
    const deadlock = { ...session(7), at: '2026-03-01T06:00:00Z', ended: 7, detail: 'El proceso 7 espera' }
    server.answers['GET /api/v1/instances/1/deadlocks'] = {
      deadlocks: [
        { ...deadlock, circle: [party(7, 8), party(8, 7)] },
        { ...deadlock, at: '2026-03-01T05:00:00Z', circle: [] },
      ],
      deadlock_count: 2,
      timeouts: [],
      timeout_count: 0,
    }
    const { wrapper } = await show(BlockingPage, '/on/passage-a/diagnose/blocking')
    const [drawn, written] = wrapper.findAll('[data-test=deadlocks] article')
    expect(drawn!.findAll('circle')).toHaveLength(2)
    expect(drawn!.text()).toContain('process 7 wanted ShareLock on transaction 9, held by process 8')
    expect(written!.find('svg').exists()).toBe(false)
    expect(written!.text()).toContain('El proceso 7 espera')
  })

  it('offers administrators to end the holder', async () => {
    server.answers['GET /api/v1/session'] = {
      name: 'pilot',
      role: 'administrator',
      groups: [],
      csrf_token: 'kelp',
    }
    const { wrapper } = await show(BlockingPage, '/on/passage-a/diagnose/blocking')
    expect(wrapper.findAll('button').filter((one) => one.text().startsWith('End the holder'))).toHaveLength(1)
  })

  it('says whether nobody waited or nothing is known', async () => {
    server.answers['GET /api/v1/instances/1/hold-ups'] = answer([])
    const quiet = await show(BlockingPage, '/on/passage-a/diagnose/blocking')
    expect(quiet.wrapper.text()).toContain('Nobody waited for a lock in 60 looks')
    server.answers['GET /api/v1/instances/1/hold-ups'] = { ...answer([]), looks: 0, looked_at: null }
    const unknown = await show(BlockingPage, '/on/passage-a/diagnose/blocking')
    expect(unknown.wrapper.text()).toContain('nobody can say who held up whom')
    expect(unknown.wrapper.find('[data-test=looks-since]').exists()).toBe(false)
    server.answers['GET /api/v1/instances/1/hold-ups'] = {
      ...answer([]),
      looks: 0,
      looks_since: '2026-03-01T06:00:00Z',
    }
    const old = await show(BlockingPage, '/on/passage-a/diagnose/blocking')
    expect(old.wrapper.text()).toContain('No such hold-up is kept')
    expect(old.wrapper.get('[data-test=looks-since]').text()).toContain('that cost 5')
  })

  it('leads to the sessions of the time only while looks at them are kept', async () => {
    const told = (looks_since: string | null) => ({ ...answer([holdUp([])]), looks_since })
    const leads = async (looks_since: string | null) => {
      server.answers['GET /api/v1/instances/1/hold-ups'] = told(looks_since)
      const { wrapper } = await show(BlockingPage, '/on/passage-a/diagnose/blocking')
      return wrapper.text().includes('sessions then')
    }
    expect(await leads(null)).toBe(true)
    expect(await leads('2026-02-01T00:00:00Z')).toBe(true)
    expect(await leads('2027-03-01T00:00:00Z')).toBe(false)
  })
})
