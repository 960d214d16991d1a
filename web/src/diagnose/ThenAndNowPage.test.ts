import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: ThenAndNowPage } = await import('./ThenAndNowPage.vue')
const BOTH = 'GET /api/v1/instances/1/then-and-now'
const ADDRESS = '/on/passage-a/diagnose/then-and-now'

const load = (lock: number) => ({
  samples: 600,
  kinds: [1, 0, 0, 0, 0, lock, 0, 0, 0, 0],
  total: 1 + lock,
  standard_error: 0.1,
})
const period = (from: string, to: string, change = {}) => ({
  span: { from, to },
  coverage: { detail: 'fine', span: { from, to }, seconds: 3600, periods: 60, without: [] },
  load: load(0),
  time: 0.4,
  calls: 20,
  transactions: 12,
  ...change,
})
const likeness = {
  has_like_hours: true,
  has_like_days: true,
  has_other_length: false,
  length_ratio: 1,
  overlaps: false,
  cautions: [] as string[],
}
const statement = {
  family_id: '7',
  text: 'select seat from passage_leg where crossing_id = ?',
  moved: { by: 0.6, by_calls: 0.1, by_each: 0.5 },
  calls: { then: 10, now: 12 },
  time: { then: 0.03, now: 0.63 },
  then_each_ms: 3,
  now_each_ms: 52,
  why: [
    { text: 'new plan', at: '2026-03-02T05:30:00Z' },
    { text: '90 times the pages a call', at: null },
  ],
  change_began_at: '2026-03-02T05:40:00Z',
}
const both = (change = {}) => ({
  then: period('2026-03-01T06:00:00Z', '2026-03-01T07:00:00Z'),
  now: period('2026-03-02T06:00:00Z', '2026-03-02T07:00:00Z', { load: load(0.5), time: 1 }),
  likeness,
  moved: { by: 0.6, by_calls: 0.1, by_each: 0.5 },
  statements: [statement],
  families: 80,
  events: [{ name: 'Lock:transactionid', load: { then: 0, now: 0.5 } }],
  tables: [],
  figures: [],
  settings: [{ name: 'work_mem', at: '2026-03-02T05:00:00Z', before: '8192', after: '1024', unit: 'kB' }],
  markers: [],
  alarms: [],
  ...change,
})
const asked = () => server.asked.filter((url) => url.pathname.endsWith('/then-and-now')).at(-1)!.searchParams

beforeEach(() => {
  server.asked = []
  server.answers = {
    'GET /api/v1/roster': roster(instance()),
    'GET /api/v1/instances/1/history': {
      span: { from: '2026-02-01T00:00:00Z', to: '2026-03-02T07:00:00Z' },
      cell_seconds: 3600,
      cells: [],
      markers: [{ marker_id: '4', at: '2026-03-02T06:00:00Z', kind: 'noted', text: 'release 12.4' }],
    },
    'GET /api/v1/instances/1/usual-ranges': [],
    [BOTH]: both(),
  }
})

describe('two periods side by side', () => {
  it('says what moved, split into calls and each call, and why', async () => {
    const { wrapper } = await show(ThenAndNowPage, `${ADDRESS}?last=1h`)
    expect(wrapper.get('[data-test=verdict]').text()).toContain('+0.600 s more of each second now')
    const row = wrapper.get('[data-test=statements-moved] tbody tr').text()
    expect(row).toContain('+0.600')
    expect(row).toMatch(/new plan since .*; 90 times the pages a call/)
    expect(row).toContain('lasting change since')
    expect(wrapper.get('[data-test=kinds]').text()).toMatch(/lock\s*0\s*0\.500\s*\+0\.500/)
    expect(wrapper.get('[data-test=happened]').text()).toContain('work_mem from 8192 to 1024, in kB')
    expect(wrapper.find('[data-test=caution]').exists()).toBe(false)
    expect(wrapper.find('a[href*="kind=then_and_now"]').exists()).toBe(true)
  })

  it('leaves the choice of the hours before to the server, until others are chosen', async () => {
    const { wrapper, router } = await show(ThenAndNowPage, `${ADDRESS}?last=1h`)
    expect(asked().get('then_from')).toBeNull()
    await wrapper
      .findAll('button')
      .find((button) => button.text() === 'a week before')!
      .trigger('click')
    await flushPromises()
    expect(router.currentRoute.value.query.then).toBe('7d')
    expect(+new Date(asked().get('from')!) - +new Date(asked().get('then_from')!)).toBe(7 * 86_400_000)
    await wrapper
      .findAll('button')
      .find((button) => button.text() === 'all of the week before')!
      .trigger('click')
    await flushPromises()
    expect(+new Date(asked().get('then_to')!) - +new Date(asked().get('then_from')!)).toBe(7 * 86_400_000)
  })

  it('compares the hours after a marker with the same ones before it', async () => {
    server.answers['GET /api/v1/instances/1/markers/4/periods'] = {
      then: { from: '2026-03-01T06:00:00Z', to: '2026-03-01T07:00:00Z' },
      now: { from: '2026-03-02T06:00:00Z', to: '2026-03-02T07:00:00Z' },
    }
    const { wrapper } = await show(ThenAndNowPage, `${ADDRESS}?last=1h`)
    await wrapper.get('.choose select').setValue('4')
    await flushPromises()
    expect(Object.fromEntries(asked())).toMatchObject({
      from: '2026-03-02T06:00:00.000Z',
      then_from: '2026-03-01T06:00:00.000Z',
      then_to: '2026-03-01T07:00:00.000Z',
    })
  })

  it('says so where a marker is gone meanwhile', async () => {
    const { wrapper } = await show(ThenAndNowPage, `${ADDRESS}?last=1h`)
    await wrapper.get('.choose select').setValue('4')
    await flushPromises()
    expect(wrapper.text()).toContain('Not there')
    expect(wrapper.find('[data-test=verdict]').exists()).toBe(true)
  })

  it('says so where nothing is known of one of them, and where it failed', async () => {
    const none = period('2026-02-01T06:00:00Z', '2026-02-01T07:00:00Z')
    server.answers[BOTH] = both({ then: { ...none, coverage: { ...none.coverage, periods: 0 } } })
    const { wrapper } = await show(ThenAndNowPage, `${ADDRESS}?last=1h`)
    expect(wrapper.get('[data-test=unseen]').text()).toContain('Nothing is known of then')
    expect(wrapper.find('[data-test=statements-moved]').exists()).toBe(false)
    delete server.answers[BOTH]
    expect((await show(ThenAndNowPage, `${ADDRESS}?last=1h`)).wrapper.text()).toContain('Not there')
  })
})
