import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: StatementsPage } = await import('./StatementsPage.vue')
const LIST = 'GET /api/v1/instances/1/statements'

const figures = { calls: 1200, exec_us: 3e6, plan_us: 0, rows: 10, hit_pages: 5, read_pages: 1 }
const family = (family_id: string, text: string, change = {}) => ({
  family_id,
  text,
  tag: null,
  figures,
  share: 0.25,
  mean_ms: 2.5,
  deviation_ms: null,
  kind: 'query',
  waiting: 0.2,
  load: { samples: 600, kinds: [0.1, 0, 0, 0, 0, 0.2, 0, 0, 0, 0], total: 0.3, standard_error: 0.01 },
  lower_bound: false,
  ...change,
})
const list = (families: unknown[], change = {}) => ({
  coverage: {
    detail: 'fine',
    span: { from: '2026-03-01T06:00:00Z', to: '2026-03-01T06:10:00Z' },
    seconds: 600,
    periods: 10,
    without: [],
  },
  total: figures,
  around: { families: 3, figures },
  load: { samples: 600, kinds: [], total: 0.3, standard_error: 0.01 },
  matching: families.length,
  families,
  ...change,
})
const asked = () => server.asked.filter((url) => url.pathname.endsWith('/statements')).at(-1)!.searchParams

beforeEach(() => {
  server.asked = []
  server.answers = {
    'GET /api/v1/roster': roster(instance()),
    'GET /api/v1/instances/1/changes': [],
    'GET /api/v1/instances/1/literal-floods': [],
    [LIST]: list([family('7', 'select 1'), family('8', 'select 2', { lower_bound: true, tag: 'deck' })]),
  }
})

describe('the list of statements', () => {
  it('tells of literal floods where there are any', async () => {
    const quiet = await show(StatementsPage, '/on/passage-a/diagnose/statements?last=1h')
    expect(quiet.wrapper.find('[data-test=floods]').exists()).toBe(false)
    server.answers['GET /api/v1/instances/1/literal-floods'] = [
      {
        family_id: '9',
        text: 'call settle_dues(?)',
        since: '2026-03-01T05:00:00Z',
        seen_at: '2026-03-01T06:10:00Z',
        texts: 2400,
        entries: 2500,
        share: 0.96,
        text_bytes: 81920,
        figures,
      },
    ]
    const { wrapper } = await show(StatementsPage, '/on/passage-a/diagnose/statements?last=1h')
    const told = wrapper.get('[data-test=floods]').text()
    expect(told).toContain('call settle_dues(?)')
    expect(told).toContain('96')
    expect(wrapper.get('[data-test=floods] a').attributes('href')).toContain('9')
  })

  it('asks the server for what the address says', async () => {
    const { wrapper } = await show(
      StatementsPage,
      '/on/passage-a/diagnose/statements?last=1h&statements.sort=calls&statements.page=3&statements.is.text=gate',
    )
    expect(Object.fromEntries(asked())).toMatchObject({
      sort: 'calls',
      ascending: 'true',
      page: '3',
      page_size: '25',
      search: 'gate',
    })
    expect(+new Date(asked().get('to')!) - +new Date(asked().get('from')!)).toBe(3_600_000)
    expect((wrapper.get('input[type=search]').element as HTMLInputElement).value).toBe('gate')
  })

  it('shows lower bounds as such, and the tag beside the text', async () => {
    const { wrapper } = await show(StatementsPage, '/on/passage-a/diagnose/statements')
    const cells = wrapper.findAll('tbody tr').map((row) => row.findAll('td').map((cell) => cell.text()))
    expect(cells[0]!.slice(0, 3)).toEqual(['1\u202f200', '3\u00a0s', '2.50\u00a0ms'])
    expect(cells[1]![0]).toBe('≥ 1\u202f200')
    expect(cells[1]!.at(-2)).toContain('/* deck */')
  })

  it('sorts on the server: again the other way round, and from the first page', async () => {
    const { wrapper, router } = await show(
      StatementsPage,
      '/on/passage-a/diagnose/statements?statements.page=2',
    )
    const click = async (column: string) => {
      await wrapper
        .findAll('button.sort')
        .find((button) => button.text().startsWith(column))!
        .trigger('click')
      await flushPromises()
    }
    await click('calls')
    expect(router.currentRoute.value.query).toEqual({ 'statements.sort': '-calls' })
    expect(asked().get('page')).toBe('1')
    await click('calls')
    expect(router.currentRoute.value.query).toEqual({ 'statements.sort': 'calls' })
    expect(wrapper.get('th[aria-sort=ascending]').text()).toBe('calls ↑')
    await click('statement')
    expect(router.currentRoute.value.query).toEqual({ 'statements.sort': 'text' })
  })

  it('marks the families that became slower, and leads to each', async () => {
    const change = { ratio: { value: 4, low: 3, high: 5 }, onset: '2026-03-01T06:05:00Z', until: null }
    server.answers['GET /api/v1/instances/1/changes'] = [
      { family_id: '8', change },
      { family_id: '7', change: { ...change, until: '2026-03-01T06:07:00Z' } },
    ]
    const { wrapper } = await show(StatementsPage, '/on/passage-a/diagnose/statements?last=6h')
    const rows = wrapper.findAll('tbody tr')
    expect(rows[0]!.find('.change').exists()).toBe(false)
    expect(rows[1]!.get('.change').text()).toMatch(/◆ slower since .*: 4 times as long/)
    expect(rows[1]!.get('a').attributes('href')).toBe('/on/passage-a/diagnose/statements/8?last=6h')
  })

  it('keeps sessions and monitoring apart, and shows them on request', async () => {
    const { wrapper, router } = await show(StatementsPage, '/on/passage-a/diagnose/statements')
    expect(asked().get('kinds')).toBe('query,change,procedure,definition,upkeep,other')
    const apart = wrapper.findAll('button.plain').find((button) => button.text().startsWith('3 statements'))!
    await apart.trigger('click')
    await flushPromises()
    expect(router.currentRoute.value.query.kind).toBe('around')
    expect(asked().get('kinds')).toBe('session,monitoring')
    await wrapper.get('select[aria-label="Sort of statements"]').setValue('all')
    await flushPromises()
    expect(asked().get('kinds')).toBeNull()
  })

  it('narrows by account, program and database, and says what a program cannot tell', async () => {
    const { wrapper } = await show(
      StatementsPage,
      '/on/passage-a/diagnose/statements?account=skerry_web&program=booking&database=passage',
    )
    expect(Object.fromEntries(asked())).toMatchObject({
      account: 'skerry_web',
      program: 'booking',
      database: 'passage',
    })
    expect(wrapper.text()).toContain('not by program')
  })

  it('shows running and waiting of each family on one scale', async () => {
    const { wrapper } = await show(StatementsPage, '/on/passage-a/diagnose/statements')
    const bar = wrapper.get('tbody .kind-bar')
    expect(bar.attributes('aria-label')).toBe('Mean busy sessions: lock 0.200, running 0.100')
    expect(bar.findAll('rect').map((rect) => Number(rect.attributes('width')))).toEqual([
      expect.closeTo(32, 5),
      expect.closeTo(64, 5),
    ])
  })

  it('holds chosen families side by side', async () => {
    const of = (family_id: string) => ({
      family_id,
      text: `select ${family_id}`,
      figures,
      cell_seconds: 60,
      cells: [{ at: '2026-03-01T06:00:00Z', seconds: 60, figures }],
      coverage: list([]).coverage,
    })
    server.answers['GET /api/v1/instances/1/statements/7'] = of('7')
    server.answers['GET /api/v1/instances/1/statements/8'] = of('8')
    const { wrapper, router } = await show(StatementsPage, '/on/passage-a/diagnose/statements')
    const compare = () => wrapper.findAll('tbody button').filter((one) => one.text().includes('compare'))
    await compare()[0]!.trigger('click')
    await flushPromises()
    expect(wrapper.find('[data-test=comparison]').exists()).toBe(false)
    await compare()[1]!.trigger('click')
    await flushPromises()
    expect(router.currentRoute.value.query.compare).toBe('7,8')
    expect(wrapper.get('[data-test=comparison]').text()).toContain('time per call · select 8')
  })

  it('tells what runs now and what has just finished', async () => {
    server.answers['GET /api/v1/instances/1/executions'] = {
      looked_at: '2026-03-01T06:10:00Z',
      executions: [
        {
          family_id: '7',
          text: 'select 1',
          process: 4711,
          process_started_at: '2026-03-01T05:00:00Z',
          account: 'skerry_web',
          program: 'booking',
          client: '',
          database: 'passage',
          began_at: '2026-03-01T06:08:00Z',
          last_seen_at: '2026-03-01T06:10:00Z',
          is_running: true,
          seconds: 120,
          load: { samples: 120, kinds: [], total: 1, standard_error: 0 },
          mostly: 'lock',
        },
      ],
    }
    const { wrapper } = await show(StatementsPage, '/on/passage-a/diagnose/statements')
    expect(server.asked.some((url) => url.pathname.endsWith('/executions'))).toBe(false)
    await wrapper.get('[data-test=just-now] summary').trigger('click')
    await flushPromises()
    const row = wrapper.get('[data-test=executions] tbody tr').text()
    expect(row).toContain('running')
    expect(row).toContain('lock')
    const query = server.asked.find((url) => url.pathname.endsWith('/executions'))!.searchParams
    expect(+new Date(query.get('to')!) - +new Date(query.get('from')!)).toBe(300_000)
  })

  it('says why it is empty, and what to do', async () => {
    server.answers[LIST] = list([], { matching: 0 })
    const text = async (address: string) => (await show(StatementsPage, address)).wrapper.text()
    expect(await text('/on/passage-a/diagnose/statements?statements.is.text=tide')).toContain(
      'contains “tide”',
    )
    expect(await text('/on/passage-a/diagnose/statements')).toContain('No statement ended in this window.')
    server.answers[LIST] = list([], { coverage: { ...list([]).coverage, periods: 0 } })
    expect(await text('/on/passage-a/diagnose/statements')).toContain('choose a longer window')
    delete server.answers[LIST]
    expect(await text('/on/passage-a/diagnose/statements')).toContain('Not there')
  })

  it('tells of a server without such counters how it would have them', async () => {
    const limits = [
      { figures: 'statements', reason: 'Not installed.', remedy: 'CREATE EXTENSION pg_stat_statements;' },
    ]
    server.answers['GET /api/v1/roster'] = roster(instance({ limits }))
    const { wrapper } = await show(StatementsPage, '/on/passage-a/diagnose/statements')
    expect(wrapper.get('pre').text()).toBe('CREATE EXTENSION pg_stat_statements;')
  })
})
