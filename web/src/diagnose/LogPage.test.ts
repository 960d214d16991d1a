import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: LogPage } = await import('./LogPage.vue')
const entry = (change: Record<string, unknown> = {}) => ({
  at: '2026-03-01T06:05:00Z',
  kind: 'error',
  severity: 'ERROR',
  state: '22012',
  message: 'division by zero',
  detail: '',
  statement: 'select metres / ? from deck',
  family_id: '71',
  account: 'crew',
  database: 'passage',
  program: 'gate',
  client: '192.0.2.9',
  process: 77,
  times: 3,
  value: null,
  ...change,
})
const LOG = 'GET /api/v1/instances/1/log'
const WINDOW = 'from=2026-03-01T06:00:00Z&to=2026-03-01T06:10:00Z'

describe('the log', () => {
  beforeEach(() => {
    server.asked = []
    server.answers = {
      'GET /api/v1/session': { name: 'mate', role: 'reader', groups: [], csrf_token: 'kelp' },
      'GET /api/v1/roster': roster(instance()),
      [LOG]: {
        kinds: [
          { kind: 'deadlock', times: 1, value: null, cells: [0, 1] },
          { kind: 'temp_file', times: 4, value: 4096, cells: [4, 0] },
        ],
        starts: ['2026-03-01T06:00:00Z', '2026-03-01T06:05:00Z'],
        cell_seconds: 300,
        matching: 2,
        entries: [entry(), entry({ kind: 'temp_file', message: 'temporary file', value: 4096, account: '' })],
      },
    }
  })

  it('has a strip for each kind, and entries with what they add up to', async () => {
    const { wrapper } = await show(LogPage, `/on/passage-a/diagnose/log?${WINDOW}`)
    expect(wrapper.findAll('.stack .label').map((label) => label.text())).toEqual(['Deadlock', 'Temp file'])
    const rows = wrapper.findAll('[data-test=log] tbody tr').map((row) => row.text())
    expect(rows[0]).toContain('division by zero')
    expect(rows[1]).toContain('(4 kB)'.replace(' ', '\u00a0'))
  })

  it('shows one entry in full, with ways to its statement and its moment', async () => {
    const { wrapper } = await show(LogPage, `/on/passage-a/diagnose/log?${WINDOW}`)
    await wrapper.find('[data-test=log] button.line').trigger('click')
    const more = wrapper.find('[data-test=log] .more')
    expect(more.text()).toContain('ERROR, SQLSTATE 22012')
    expect(more.text()).toContain('select metres / ? from deck')
    const ways = more.findAll('a').map((link) => link.attributes('href')!)
    expect(ways[0]).toContain('/statements/71')
    expect(ways[1]).toContain('from=2026-03-01T06:04:00.000Z&to=2026-03-01T06:06:00.000Z')
  })

  it('marks an entry on the time axis, for whoever may note a marker', async () => {
    const opened = async () => {
      const { wrapper } = await show(LogPage, `/on/passage-a/diagnose/log?${WINDOW}`)
      await wrapper.find('[data-test=log] button.line').trigger('click')
      return wrapper.find('[data-test=log] .more')
    }
    expect((await opened()).find('button.mark').exists()).toBe(false)
    server.answers['GET /api/v1/session'] = { name: 'mate', role: 'tuner', groups: [], csrf_token: 'kelp' }
    server.answers['POST /api/v1/instances/1/markers'] = { marker_id: '7' }
    const more = await opened()
    await more.get('button.mark').trigger('click')
    await flushPromises()
    expect(more.text()).toContain('It stands on the time axis')
  })

  it('is narrowed by kind, account and column of time, each with its chip in the address', async () => {
    const address = `/on/passage-a/diagnose/log?${WINDOW}&kind=deadlock&account=crew&cell=1772345100,1772345400`
    const { wrapper, router } = await show(LogPage, address)
    expect(wrapper.findAll('.chip').map((chip) => chip.text().replace(/\s*✕/, ''))).toEqual([
      expect.stringContaining('–'),
      'Deadlock',
      'account crew',
    ])
    const asked = server.asked.filter((url) => url.pathname.endsWith('/log'))
    expect(asked.map((url) => url.searchParams.get('kind'))).toEqual(['deadlock'])
    expect(asked[0]!.searchParams.get('from')).toBe('2026-03-01T06:00:00.000Z')
    expect(asked[0]!.searchParams.get('entries_from')).toBe('2026-03-01T06:05:00.000Z')
    await wrapper.find('[aria-label="Clear Deadlock"]').trigger('click')
    await flushPromises()
    const { kind, account } = router.currentRoute.value.query
    expect([kind, account]).toEqual([undefined, 'crew'])
  })

  it('says why there is none where the server’s log cannot be read', async () => {
    const limits = [{ figures: 'log', reason: 'It may not be read.', remedy: 'CREATE FUNCTION …' }]
    server.answers['GET /api/v1/roster'] = roster(instance({ limits }))
    server.answers[LOG] = { kinds: [], starts: [], cell_seconds: 300, matching: 0, entries: [] }
    const { wrapper } = await show(LogPage, `/on/passage-a/diagnose/log?${WINDOW}`)
    expect(wrapper.find('[role=note]').text()).toContain('It may not be read.')
    expect(wrapper.text()).toContain('logged nothing of note')
  })
})
