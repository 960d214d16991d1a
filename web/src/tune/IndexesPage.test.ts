import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: IndexesPage } = await import('./IndexesPage.vue')
const REVIEW = 'GET /api/v1/instances/1/index-review'

const finding = (index: string | null, change: Record<string, unknown> = {}) => ({
  kind: 'duplicate',
  schema: 'public',
  table: 'passage_leg',
  index,
  beside: 'leg_state',
  size_bytes: 20_971_520,
  freed_bytes: 20_971_520,
  worth_bytes: 30_000_000,
  entries_per_day: 1200,
  reads_per_day: 0,
  certainty: 'certain',
  evidence: `${index} says the same as leg_state: state.`,
  statement: [
    { piece: 'text', text: 'DROP INDEX ' },
    {
      piece: 'decision',
      name: 'while it is dropped',
      question: 'May reads and writes of the table wait while the index is dropped?',
      choices: [{ text: 'CONCURRENTLY ', label: 'No: let them go on', consequence: 'Waits.' }],
      suggestion: null,
    },
    { piece: 'text', text: `public.${index};` },
  ],
  held_back: null,
  ...change,
})
const review = (findings: unknown[], change: Record<string, unknown> = {}) => ({
  database: 'passage',
  databases: ['passage', 'archive'],
  read_at: '2026-03-01T06:00:00Z',
  tables: 13,
  indexes: 40,
  size_bytes: 419_430_400,
  estimated: 31,
  counted: { cycle_days: 35, seconds: 3_456_000, servers: 2, unwatched_servers: 0, is_replica: false },
  kinds: [
    {
      kind: 'duplicate',
      title: 'Duplicate index',
      costs: 'Every write keeps up both.',
      ignored_when: 'One of them is new.',
      found: findings.length,
    },
    { kind: 'unused', title: 'Unused index', costs: '', ignored_when: '', found: 0 },
  ],
  unread_so_far: ['leg_remark'],
  small: 3,
  matching: findings.length,
  freed_bytes: 20_971_520,
  findings,
  ...change,
})
const asked = () => server.asked.filter((url) => url.pathname.endsWith('/index-review')).at(-1)!.searchParams

beforeEach(() => {
  server.asked = []
  server.answers = { 'GET /api/v1/roster': roster(instance()), [REVIEW]: review([finding('leg_again')]) }
})

describe('indexes', () => {
  it('tells what can be said against them, what could be given back, and what that rests on', async () => {
    const { wrapper: page } = await show(IndexesPage, '/on/passage-a/tune/indexes')
    expect(page.text()).toContain(
      '13 tables, 40 indexes of 400\u00a0MB: 1 finding; 20\u00a0MB could be given back.',
    )
    expect(page.text()).toContain('counted on 2 servers with the same data for 40\u00a0d')
    expect(page.text()).toContain('Not read so far, and not watched for so long: leg_remark.')
    expect(page.text()).toContain('Bloat is estimated for 31 of them')
    const row = page.get('[data-test="indexes"] tbody tr').text()
    expect(row).toContain('leg_again says the same as leg_state: state.')
    const offered = page.get('select[aria-label="Which findings"]').findAll('option')
    expect(offered.map((option) => option.text())).toEqual(['all findings', 'Duplicate index (1)'])
  })

  it('shows the statement of one only once its decisions are taken', async () => {
    const { wrapper: page } = await show(IndexesPage, '/on/passage-a/tune/indexes')
    expect(page.find('[data-test="index-finding"]').exists()).toBe(false)
    await page.get('[data-test="finding-duplicate"]').trigger('click')
    await flushPromises()
    const panel = page.get('[data-test="index-finding"]')
    expect(panel.text()).toContain('Every write keeps up both.')
    expect(panel.get('[data-test="statement-open"]').text()).toContain('‹while it is dropped?›')
    await panel.get('input[type="radio"]').setValue(true)
    expect(panel.find('[data-test="statement-open"]').exists()).toBe(false)
    expect(panel.text()).toContain('DROP INDEX CONCURRENTLY public.leg_again;')
  })

  it('says why a statement is held back, and that nothing is called unused beside servers that are not watched', async () => {
    const held = finding('leg_again', { statement: [], held_back: 'One of them may be new.' })
    const counted = { cycle_days: 35, seconds: 100, servers: 1, unwatched_servers: 1, is_replica: false }
    server.answers[REVIEW] = review([held], { counted })
    const { wrapper: page } = await show(
      IndexesPage,
      '/on/passage-a/tune/indexes?finding=duplicate/public/passage_leg/leg_again',
    )
    expect(page.get('[data-test="index-finding"]').text()).toContain('One of them may be new.')
    expect(page.text()).toContain('until that is, nothing is called unused')
  })

  it('asks its server for a kind, small ones, another database and an order', async () => {
    const { wrapper: page } = await show(
      IndexesPage,
      '/on/passage-a/tune/indexes?kind=duplicate&small=true&indexes.sort=-size',
    )
    expect(Object.fromEntries(asked())).toMatchObject({ kind: 'duplicate', small: 'true', sort: 'size' })
    await page.get('select[aria-label="Which database"]').setValue('archive')
    await flushPromises()
    expect(asked().get('database')).toBe('archive')
    expect(asked().get('kind')).toBeNull()
  })

  it('says why there is nothing', async () => {
    server.answers[REVIEW] = review([], { small: 0, freed_bytes: 0, counted: null })
    const { wrapper: page } = await show(IndexesPage, '/on/passage-a/tune/indexes')
    expect(page.text()).toContain('Nothing can be said against any index')
    expect(page.text()).toContain('whether an index here is used is not known')
    server.answers[REVIEW] = review([], { read_at: null })
    const unread = await show(IndexesPage, '/on/passage-a/tune/indexes')
    expect(unread.wrapper.text()).toContain('were not read yet')
    expect(unread.wrapper.find('[data-test="indexes"]').exists()).toBe(false)
  })
})
