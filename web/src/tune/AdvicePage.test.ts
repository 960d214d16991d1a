import { beforeEach, describe, expect, it } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: AdvicePage } = await import('./AdvicePage.vue')

const page = (change: Record<string, unknown>, details: Record<string, unknown>) => ({
  advice: {
    advice_id: '7',
    kind: details.kind,
    title: 'Some advice',
    subject: 'public.something',
    state: 'open',
    made_at: '2026-03-01T06:00:00Z',
    updated_at: '2026-03-01T06:00:00Z',
    evidence: { from: '2026-03-01T04:00:00Z', to: '2026-03-01T06:00:00Z' },
    predicted_seconds_per_day: 0,
    predicted_freed_bytes: 0,
    applied_from: null,
    applied_at: null,
    applied_by: null,
    families: [],
    effect: null,
    ...change,
  },
  details,
  family_texts: [{ family_id: '9007199254740993', text: 'SELECT state FROM passage_leg' }],
  statement: [{ piece: 'text', text: 'DROP INDEX public.fare;' }],
  on_replica: false,
})
const missing = {
  kind: 'missing_index',
  database: 'passage',
  schema: 'public',
  table: 'passage_leg',
  columns: [
    { name: 'crossing_id', role: 'equality', searches: 3, searches_in_all: 4, reason: 'used_by_more' },
    { name: 'state', role: 'range', searches: 1, searches_in_all: 4, reason: 'range_last' },
  ],
  families: [{ family: '9007199254740993', calls_per_day: 10, now_ms: 240, predicted_ms: 2 }],
  partial_indexes: [],
  makes_superfluous: [],
  statistics_known: true,
}
const unused = {
  kind: 'unused_index',
  schema: 'public',
  table: 'passage',
  index: 'fare',
  method: 'btree',
  keys: ['lower(fare)'],
  condition: null,
  size_bytes: 8192,
  unread_seconds: 40 * 86400,
  servers: 2,
  has_expression: true,
}

async function shown(change: Record<string, unknown>, details: Record<string, unknown>): Promise<string> {
  server.answers['GET /api/v1/instances/1/advice/7'] = page(change, details)
  return (await show(AdvicePage, '/on/passage-a/tune/advice/7')).wrapper.text()
}

describe('a piece of advice', () => {
  beforeEach(() => {
    server.answers = { 'GET /api/v1/roster': roster(instance()) }
  })

  it('gives what is predicted as wide as costs are apart from the planner, where that is known', async () => {
    const families = [{ ...missing.families[0], predicted_between_ms: { low: 1, high: 4 } }]
    const known = { ...missing, families, cost_factor: 2, saved_between: { low: 3600, high: 7200 } }
    const text = (await shown({}, known)).replaceAll(/\s+/g, ' ')
    expect(text).toContain('240 ms → 2 ms 1 ms to 4 ms')
    expect(text).toContain('within a factor of 2: 60 min to 2 h a day may be saved.')
    expect(await shown({}, missing)).not.toContain('may be saved')
  })

  it('gives the reason for each column of a missing index, and the statements it would help', async () => {
    const text = await shown({ predicted_seconds_per_day: 1000 }, missing)
    expect(text).toContain('Before state: more of the searches on this table compare it for equality.')
    expect(text).toContain('Last: once a range is compared')
    expect(text).toContain('SELECT state FROM passage_leg')
  })

  it('says why an index is of no use, and what to make sure of', async () => {
    const text = await shown({ predicted_freed_bytes: 8192 }, unused)
    expect(text).toMatch(/on all 2\sservers that have it/)
    expect(text).toContain('CREATE STATISTICS')
    expect(text).toContain('DROP INDEX public.fare;')
    expect(text).toContain('frees 8')
  })

  it('gives no statement to run for what does not hold any more', async () => {
    const text = await shown({ state: 'lapsed' }, unused)
    expect(text).toContain('There is nothing to do.')
    expect(text).not.toContain('DROP INDEX')
  })
})
