import { beforeEach, describe, expect, it } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: TablePage } = await import('./TablePage.vue')
const PATH = '/on/passage-a/tune/tables/passage/public/passage_leg'
const ASKED = 'GET /api/v1/instances/1/databases/passage/tables/public/passage_leg'

const index = (name: string, change: Record<string, unknown> = {}) => ({
  name,
  method: 'btree',
  keys: ['crossing_id'],
  carried: [],
  condition: null,
  unique: false,
  constraint: false,
  valid: true,
  size_bytes: 4_194_304,
  fill_factor: null,
  reads_per_day: 120,
  entries_per_day: 30,
  ...change,
})
const column = (name: string, uses: unknown[] = []) => ({
  name,
  type_name: 'integer',
  width_bytes: 4,
  distinct_values: 6000,
  null_share: 0,
  commonest_share: 0.25,
  correlation: 0.1,
  uses,
})
const table = (change: Record<string, unknown> = {}) => ({
  database: 'passage',
  schema: 'public',
  table: 'passage_leg',
  read_at: '2026-03-01T06:00:00Z',
  rows: 600_000,
  size_bytes: 62_914_560,
  index_bytes: 4_194_304,
  part_of: null,
  partition_keys: [],
  partition_count: 0,
  partitions: [],
  counted: { cycle_days: 35, seconds: 864_000, servers: 1, unwatched_servers: 0, is_replica: false },
  work: {
    full_reads: 3,
    full_read_rows: 1_800_000,
    index_reads: 5000,
    inserted_rows: 100,
    updated_rows: 80,
    updated_in_page_rows: 20,
    deleted_rows: 0,
    cache_share: 0.99,
  },
  upkeep: { dead_rows: 12, rows_since_analyze: 7, vacuumed_ago: 300, analyzed_ago: 600, age: 4000 },
  columns: [
    column('crossing_id', [
      { does: 'equality', calls_per_day: 900 },
      { does: 'join', calls_per_day: 1200 },
    ]),
    column('state', [{ does: 'set', calls_per_day: 50 }]),
  ],
  indexes: [index('leg_crossing'), index('leg_waiting', { condition: "state = 'waiting'" })],
  map: {
    columns: [
      { name: 'crossing_id', uses: [{ does: 'equality', calls_per_day: 900 }] },
      { name: 'seat', uses: [{ does: 'range', calls_per_day: 5 }] },
    ],
    steps: [{ column: 0, after: null, place: 0 }],
    paths: [
      { index: 'leg_crossing', end: 0, carried: [] },
      { index: 'leg_waiting', end: 0, carried: [1] },
    ],
  },
  refers_to: [{ name: 'leg_crossing_fkey', table: 'public.crossing', columns: ['crossing_id'] }],
  referred_by: [{ name: 'scan_leg_fkey', table: 'gates.gate_scan', columns: ['passage_leg_id'] }],
  statement_count: 2,
  statements: [
    {
      family_id: '7',
      text: 'select * from passage_leg where crossing_id = $1',
      calls_per_day: 900,
      mean_ms: 2,
      share: 0.2,
      reads: true,
      writes: false,
      is_unread: false,
    },
    {
      family_id: '8',
      text: 'update passage_leg set state = $1 where remark like $2',
      calls_per_day: 50,
      mean_ms: 40,
      share: 0.1,
      reads: true,
      writes: true,
      is_unread: true,
    },
  ],
  findings: [],
  kinds: [{ kind: 'duplicate', title: 'Duplicate index', costs: 'Twice.', ignored_when: 'New.', found: 1 }],
  advice: [],
  ...change,
})

beforeEach(() => {
  server.asked = []
  server.answers = { 'GET /api/v1/roster': roster(instance()), [ASKED]: table() }
})

describe('one table', () => {
  it('tells its size, what it does in a day and how it is kept up', async () => {
    const { wrapper: page } = await show(TablePage, PATH)
    const text = page.text().replaceAll(/[\u00a0\u202f]/g, ' ')
    expect(text).toContain('600 000 rows, 60 MB, 2 indexes of 4 MB.')
    expect(text).toContain('In a day it is read by 5 000 index scans and 3 sequential scans')
    expect(text).toContain('180 rows are written: 100 inserted, 80 updated (25 % of updates in their page)')
    expect(text).toContain('Vacuum ran 5 min ago and left 12 dead rows')
    expect(text).toContain('collected 10 min ago, 7 rows changed since')
  })

  it('says where figures of a day are extrapolated', async () => {
    const counted = { cycle_days: 35, seconds: 600, servers: 1, unwatched_servers: 0, is_replica: false }
    server.answers[ASKED] = table({ counted })
    const { wrapper: page } = await show(TablePage, PATH)
    expect(page.text()).toContain('At the rate of the last 10\u00a0min, in a day')
  })

  it('draws each index as a way, and tells what no index has as a key', async () => {
    const { wrapper: page } = await show(TablePage, PATH)
    const map = page.get('[data-test="index-map"]')
    expect(map.findAll('.way')).toHaveLength(2)
    expect(map.findAll('.partial')).toHaveLength(1)
    expect(map.findAll('.carried')).toHaveLength(1)
    expect(map.findAll('.unserved').length).toBe(1)
    expect(map.text()).toContain('leg_waiting')
  })

  it('tells of columns what statements do with them, the most frequent first', async () => {
    const { wrapper: page } = await show(TablePage, PATH)
    const rows = page.get('[data-test="table-columns"]').findAll('tbody tr')
    expect(rows[0]!.text().replaceAll('\u202f', ' ')).toContain('join 1 200, equality 900')
    expect(rows[1]!.text()).toContain('update 50')
  })

  it('leads to the tables it refers to and to those that refer to it', async () => {
    const { wrapper: page } = await show(TablePage, PATH)
    const links = page.get('[data-test="references"]').findAll('a')
    expect(links.map((link) => link.attributes('href'))).toEqual([
      '/on/passage-a/tune/tables/passage/public/crossing',
      '/on/passage-a/tune/tables/passage/gates/gate_scan',
    ])
  })

  it('says of a statement that could not be read in full that it was not', async () => {
    const { wrapper: page } = await show(TablePage, PATH)
    const rows = page.get('[data-test="table-statements"]').findAll('tbody tr')
    expect(rows[1]!.text()).toContain('reads, writes, not read in full')
  })

  it('shows a finding in full where it is chosen', async () => {
    const finding = {
      kind: 'duplicate',
      schema: 'public',
      table: 'passage_leg',
      index: 'leg_crossing',
      beside: 'leg_again',
      size_bytes: 1,
      freed_bytes: 1,
      worth_bytes: 1,
      entries_per_day: 1,
      reads_per_day: 1,
      certainty: 'certain',
      evidence: 'leg_crossing says the same as leg_again.',
      statement: [],
      held_back: 'It is held back.',
    }
    server.answers[ASKED] = table({ findings: [finding] })
    const { wrapper: page } = await show(TablePage, `${PATH}?finding=duplicate/leg_crossing`)
    expect(page.get('[data-test="said"]').text()).toContain('leg_crossing says the same as leg_again.')
    expect(page.get('[data-test="index-finding"]').text()).toContain('It is held back.')
    expect(page.get('[data-test="index-map"]').text()).toContain('duplicate')
  })

  it('says why planner statistics are missing', async () => {
    const unknown = { width_bytes: null, distinct_values: null, null_share: null, commonest_share: null }
    server.answers[ASKED] = table({ columns: [{ ...column('crossing_id'), ...unknown, correlation: null }] })
    const { wrapper: page } = await show(TablePage, PATH)
    expect(page.text()).toContain('it needs pg_read_all_data')
    server.answers[ASKED] = table()
    expect((await show(TablePage, PATH)).wrapper.text()).not.toContain('pg_read_all_data')
  })

  it('says that there is no such table', async () => {
    delete server.answers[ASKED]
    const { wrapper: page } = await show(TablePage, PATH)
    expect(page.text()).toContain('Not there')
  })
})
