import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: ChangesPage } = await import('./ChangesPage.vue')
const side = {
  quarter: 1,
  three_quarters: 3,
  calls_per_second: 1,
  rows_per_call: 1,
  pages_per_call: 1,
  seconds: 600,
}
let number = 0
const change = (
  measured: string,
  family_id: string | null,
  cost: number,
  more: Record<string, unknown> = {},
) => ({
  family_id,
  text: family_id ? `select ${family_id}` : '',
  change: {
    change_id: String(++number),
    measured,
    object: '',
    onset: '2026-03-01T06:00:00Z',
    until: null,
    passed: false,
    ratio: { value: 2, low: 1.8, high: 2.2 },
    before: { ...side, typical: 2 },
    after: { ...side, typical: 4 },
    cost: ['metric', 'pages_per_call'].includes(measured) ? null : cost,
    asks: true,
    answer: null,
    ...more,
  },
})
const shown = async (changes: unknown[], address = '/on/passage-a/diagnose/changes') => {
  server.answers = {
    'GET /api/v1/roster': roster(instance()),
    'GET /api/v1/instances/1/changes': changes,
  }
  const { wrapper } = await show(ChangesPage, address)
  await flushPromises()
  const rows = wrapper.findAll('tbody tr').map((row) => row.text().replace(/\s+/g, ' '))
  return { wrapper, rows }
}

beforeEach(() => {
  server.asked = []
})

describe('lasting changes', () => {
  it('tells each as what it is, with its unit, the costliest first', async () => {
    const { rows, wrapper } = await shown([
      change('time_per_call', '7', 0.1),
      change('calls', '8', 0.5),
      change('waits', null, 0.3, { object: 'lock' }),
      change('metric', null, 0, { object: 'cpu_used user' }),
      change('pages_per_call', '7', 0.1),
    ])
    expect(rows).toHaveLength(5)
    expect(rows[0]).toMatch(/holds ?calls ?2\/s ?4\/s ?× 2 ?\+0\.500 ?select 8/)
    expect(rows[1]).toMatch(/sessions waiting: lock ?2 ?4 ?× 2 ?\+0\.300 ?the server$/)
    expect(rows[2]).toMatch(/time per call ?2.ms ?4.ms/)
    expect(rows[3]).toMatch(/cpu used user ?2 ?4 ?× 2 ?the server/)
    expect(rows[4]).toMatch(/pages per call ?2 ?4 ?× 2 ?select 7/)
    expect(wrapper.text()).not.toContain('what happened then')
    expect(wrapper.get('a.mono').attributes('href')).toContain('/on/passage-a/diagnose/statements/8')
  })

  it('leaves out what is settled or over until it is asked for', async () => {
    const changes = [
      change('time_per_call', '7', 0.1, { asks: false, answer: { answer: 'accepted' } }),
      change('time_per_call', '8', 0.1, { asks: false, until: '2026-03-01T07:00:00Z' }),
      change('time_per_call', '9', 0.1, { answer: { answer: 'followed' } }),
    ]
    expect((await shown(changes)).rows).toHaveLength(1)
    const { rows } = await shown(changes, '/on/passage-a/diagnose/changes?which=all')
    expect(rows.map((row) => /accepted|over|followed/.exec(row)?.[0]).sort()).toEqual([
      'accepted',
      'followed',
      'over',
    ])
    const { wrapper } = await shown(changes, '/on/passage-a/diagnose/changes?which=server')
    expect(wrapper.text()).toContain('None of 3 changes is of this sort.')
  })

  it('tells what happened when one began, where anything did', async () => {
    const causes = [
      { kind: 'setting', likely: 0.7, evidence: 'At about that time: work_mem: 8MB → 128kB', against: null },
    ]
    const { rows, wrapper } = await shown([
      change('metric', null, 0, { object: 'temp_bytes', unit: 'bytes_per_second', causes }),
    ])
    expect(wrapper.text()).toContain('what happened then')
    expect(rows[0]).toMatch(/temp bytes ?2.B\/s ?4.B\/s.*work_mem: 8MB → 128kB/)
  })

  it('says so where there is nothing', async () => {
    expect((await shown([])).wrapper.text()).toContain('Nothing has changed and stayed so.')
  })
})
