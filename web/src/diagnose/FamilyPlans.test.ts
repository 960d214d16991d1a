import { flushPromises, mount } from '@vue/test-utils'
import { createPinia } from 'pinia'
import { describe, expect, it } from 'vitest'
import type { Schemas } from '../api/client'
import { server, stubServer } from '../testing/page'

stubServer()
const { default: FamilyPlans } = await import('./FamilyPlans.vue')

const tree: Schemas['PlanTree'] = { steps: [], wrong: [], planning_ms: null, execution_ms: null }
const planned = (
  text: string | null,
  change: Partial<Schemas['PlanFigures']> = {},
): Schemas['PlanFigures'] => ({
  first_read_at: '2026-03-01T06:00:00Z',
  read_at: '2026-03-01T07:00:00Z',
  text,
  tree: text ? tree : null,
  absent: text ? null : 'The server could not plan it.',
  database: null,
  calls: null,
  mean_ms: null,
  ...change,
})
const logged: Schemas['LoggedPlanFigures'] = {
  first_at: '2026-03-01T06:00:00Z',
  last_at: '2026-03-01T06:30:00Z',
  times: 3,
  mean_ms: 700,
  most_ms: 1200,
  text: 'Seq Scan on tariff',
  tree,
  database: 'freight',
  is_planned: false,
}
const shown = async (change: object) => {
  const family = {
    plans: [],
    logged_plans: [],
    plan_changed: null,
    ...change,
  } as unknown as Schemas['FamilyFigures']
  server.answers['POST /api/v1/plans/read'] = { first: tree, second: tree, merged: [] }
  const wrapper = mount(FamilyPlans, { props: { family }, global: { plugins: [createPinia()] } })
  await flushPromises()
  return wrapper
}

describe('plans of a statement', () => {
  it('say whether another plan made it better or worse, by what was measured', async () => {
    const plan_changed = {
      at: '2026-03-01T06:30:00Z',
      before_ms: 2,
      now_ms: 6,
      ratio: 3,
      verdict: 'worse' as const,
    }
    const plans = [
      planned('Seq Scan on tariff', { calls: 400, mean_ms: 6 }),
      planned('Index Scan on tariff', { calls: 5 }),
    ]
    const worse = await shown({ plans, plan_changed })
    const told = worse.get('[data-test=plan-changed]').text().replace(/\s+/g, ' ')
    expect(told).toContain('It is worse: a call takes 6 ms, 3 times as long as with the plan before (2 ms)')
    expect(worse.text().replace(/\s+/g, ' ')).toContain('400 calls while it was in use, 6 ms each')
    const better = await shown({
      plans,
      plan_changed: { ...plan_changed, ratio: 0.25, now_ms: 0.5, verdict: 'better' },
    })
    expect(better.get('[data-test=plan-changed]').text()).toContain('4 times as fast')
    expect((await shown({ plans })).find('[data-test=plan-changed]').exists()).toBe(false)
  })

  it('tell what the log has of them, and whether the server would make the same without values', async () => {
    const of = (await shown({ logged_plans: [logged] }))
      .get('[data-test=logged-plan]')
      .text()
      .replace(/\s+/g, ' ')
    expect(of).toContain('3 executions, 700 ms on average, at most 1.20 s')
    expect(of).toContain('For certain values the server chose this plan')
    const same = await shown({ logged_plans: [{ ...logged, is_planned: true }] })
    expect(same.text()).not.toContain('For certain values')
  })

  it('say why there is none', async () => {
    expect((await shown({ plans: [planned(null)] })).text()).toContain('The server could not plan it.')
    expect((await shown({})).text()).toContain('Not read yet')
  })
})
