import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'
import { databaseRows, hitShare, withGaps } from './databaseRows'

stubServer()
const { default: DatabasesPage } = await import('./DatabasesPage.vue')
const { default: DatabasePage } = await import('./DatabasePage.vue')
const work = (change: Record<string, number> = {}) => ({
  commits: 0,
  rollbacks: 0,
  hit_pages: 0,
  read_pages: 0,
  changed_rows: 0,
  deadlocks: 0,
  temp_files: 0,
  temp_bytes: 0,
  sessions: 0,
  idle_open_us: 0,
  ...change,
})
const figures = (name: string, change: Record<string, unknown> = {}) => ({
  name,
  owner: 'postgres',
  is_template: false,
  allows_connections: true,
  is_connected: false,
  size_bytes: 8192,
  work: work(),
  load: null,
  ...change,
})
const span = { from: '2026-03-01T06:00:00Z', to: '2026-03-01T06:03:00Z' }

describe('rows of a database', () => {
  it('are rates of what was counted, with gaps where nothing was', () => {
    const counted = (at: string, commits: number) => ({ at, seconds: 60, work: work({ commits }) })
    const known = [counted('2026-03-01T06:00:00Z', 120), counted('2026-03-01T06:02:00Z', 60)]
    const { starts, cells } = withGaps(known, span.from, span.to, 60)
    expect(starts).toHaveLength(3)
    const commits = databaseRows(cells, work({ commits: 180 }), 120)[0]!
    expect(commits.values).toEqual([2, null, 1])
    expect(commits.figures).toEqual(['1.50 /s', '2 /s'])
    expect(hitShare(work({ hit_pages: 3, read_pages: 1 }))).toBe(0.75)
    expect(hitShare(work())).toBeNull()
  })
})

describe('databases', () => {
  beforeEach(() => {
    server.asked = []
    server.answers = {
      'GET /api/v1/session': { name: 'mate', role: 'reader', groups: [], csrf_token: 'kelp' },
      'GET /api/v1/roster': roster(instance()),
      'GET /api/v1/instances/1/history': { span: null, cell_seconds: 60, cells: [], markers: [] },
    }
  })

  it('are listed by size, or by what a column says', async () => {
    const databases = [
      figures('passage', { size_bytes: 9e8, is_connected: true, work: work({ commits: 5 }) }),
      figures('tides', { work: work({ commits: 70 }) }),
      figures('template1', { is_template: true, size_bytes: 7e6 }),
    ]
    server.answers['GET /api/v1/instances/1/databases'] = {
      span,
      detail: 'fine',
      seconds: 180,
      read_at: span.from,
      databases,
    }
    const { wrapper } = await show(DatabasesPage, '/on/passage-a/diagnose/databases')
    const names = () => wrapper.findAll('[data-test=databases] tbody tr').map((row) => row.find('a').text())
    expect(names()).toEqual(['passage', 'template1', 'tides'])
    await wrapper
      .findAll('button')
      .find((one) => one.text().startsWith('commits'))!
      .trigger('click')
    await flushPromises()
    expect(names()).toEqual(['tides', 'passage', 'template1'])
  })

  it('tell of one what it is, and where its tables can be seen if not here', async () => {
    server.answers['GET /api/v1/instances/1/databases/tides'] = {
      span,
      detail: 'fine',
      seconds: 180,
      figures: figures('tides'),
      properties: {
        encoding: 'UTF8',
        collation: 'C.UTF-8',
        character_type: 'C.UTF-8',
        tablespace: 'pg_default',
        location: '',
        connection_limit: 7,
        counters_reset_at: null,
        transaction_age: 1200,
        oldest_transaction_seconds: null,
        read_at: span.from,
      },
      settings: [{ account: 'skerry_desk', name: 'work_mem', value: '32MB' }],
      last_backup: null,
      cell_seconds: 60,
      cells: [],
      tables: null,
      table_count: 0,
      index_count: 0,
    }
    server.answers['GET /api/v1/instances/1/statements'] = {
      coverage: { detail: 'fine', span: null, seconds: 0, periods: 0, without: [] },
      total: { calls: 0, exec_us: 0 },
      matching: 0,
      families: [],
    }
    const { wrapper } = await show(DatabasePage, '/on/passage-a/diagnose/databases/tides')
    const text = wrapper.text()
    expect(text).toContain('work_mem = 32MB')
    expect(text).toContain('for skerry_desk')
    expect(text).toContain('none noted')
    expect(text).toContain('connect it as an instance of its own')
    expect(server.asked.some((url) => url.searchParams.get('database') === 'tides')).toBe(true)
  })
})
