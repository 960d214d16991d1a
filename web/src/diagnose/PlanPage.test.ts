import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'
import { planStep } from '../testing/plan'

stubServer()
const { default: PlanPage } = await import('./PlanPage.vue')

describe('a plan from elsewhere', () => {
  beforeEach(() => {
    server.answers = { 'GET /api/v1/roster': roster(instance()) }
  })

  it('is shown as a tree with where rows were first expected wrongly', async () => {
    server.answers['POST /api/v1/plans/read'] = {
      first: {
        steps: [
          planStep(0, 'Aggregate', { rows: 1, loops: 1, time_share: 0.25, ms: 100 }),
          planStep(1, 'Seq Scan on booking', { rows: 40_000, loops: 1, time_share: 0.75, ms: 75 }),
          planStep(1, 'Seq Scan on crossing', { rows: 0, loops: 0, time_share: 0 }),
        ],
        wrong: [{ step: 1, expected_rows: 2, rows: 40_000, why: 'correlated_columns' }],
        planning_ms: 0.5,
        execution_ms: 100,
      },
      second: null,
      merged: [],
    }
    const { wrapper } = await show(PlanPage, '/diagnose/plan')
    await wrapper.find('textarea').setValue('Aggregate …')
    await wrapper.find('form').trigger('submit')
    await flushPromises()
    const rows = wrapper.findAll('.plan tbody tr').map((row) => row.text())
    expect(rows[1]).toContain('├─ Seq Scan on booking')
    expect(rows[1]).toMatch(/75\s%/)
    expect(rows[1]).toMatch(/40\s000/)
    expect(rows[2]).toContain('never run')
    expect(wrapper.find('[data-test=first-wrong]').text()).toContain('CREATE STATISTICS')
    expect(wrapper.text()).toMatch(/It ran for 100\sms, after 500\sµs of planning\./)
    await wrapper.find('textarea').setValue('another')
    expect(wrapper.find('.plan').exists(), 'what is shown is of what was typed').toBe(false)
  })

  it('keeps what was typed where the server does not answer', async () => {
    server.answers['POST /api/v1/plans/read'] = undefined
    const { wrapper } = await show(PlanPage, '/diagnose/plan')
    expect(wrapper.find('button[type=submit]').attributes('disabled')).toBeDefined()
    await wrapper.find('textarea').setValue('SELECT 1')
    await wrapper.find('form').trigger('submit')
    await flushPromises()
    expect(wrapper.text()).toContain('Not there')
    expect((wrapper.find('textarea').element as HTMLTextAreaElement).value).toBe('SELECT 1')
  })
})
