import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import { defineComponent, h } from 'vue'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: ChangePanel } = await import('./ChangePanel.vue')
const ANSWER = '/api/v1/instances/1/changes/7/answer'
const side = {
  typical: 3,
  quarter: 2,
  three_quarters: 4,
  calls_per_second: 1,
  rows_per_call: 20,
  pages_per_call: 40,
  seconds: 600,
}
const change = (more: Record<string, unknown> = {}) => ({
  change_id: '7',
  onset: '2026-03-01T06:00:00Z',
  onset_between: { from: '2026-03-01T05:50:00Z', to: '2026-03-01T06:10:00Z' },
  until: null,
  passed: false,
  found_at: '2026-03-01T07:00:00Z',
  ratio: { value: 80, low: 70, high: 90 },
  before: side,
  after: { ...side, typical: 240 },
  from_time_per_call: 0.25,
  from_calls: 0,
  lost_seconds: 7200,
  withdrawn: false,
  story: [{ at: '2026-03-01T07:00:00Z', turnout: 'found', ratio: 80, onset: '2026-03-01T06:00:00Z' }],
  causes: null,
  answer: null,
  ...more,
})
const shown = async (more: Record<string, unknown> = {}) => {
  const page = defineComponent({ render: () => h(ChangePanel, { change: change(more) as never }) })
  return (await show(page, '/on/passage-a/diagnose/statements/1')).wrapper
}

beforeEach(() => {
  server.asked = []
  server.answers = { 'GET /api/v1/roster': roster(instance()) }
})

describe('a lasting change', () => {
  it('tells its size, what it cost, and its onset with the interval', async () => {
    const text = (await shown()).text().replace(/\s+/g, ' ')
    expect(text).toMatch(/◆ Slower since .*80.*times as long.*70 to 90/)
    expect(text).toMatch(/That cost 2.h of statement time so far/)
    expect(text).toContain('The onset lies within')
    expect(text).not.toContain('Cause unknown')
  })

  it('tells causes, the likeliest first, and says so where nothing explains it', async () => {
    const causes = [
      { kind: 'missing_index', likely: 0.9, evidence: 'A call touches 60 times the pages', against: null },
      { kind: 'rows', likely: 0.4, evidence: 'A call returns 2 times the rows', against: 'Pages did not' },
    ]
    const terms = (await shown({ causes })).findAll('.causes dt').map((term) => term.text())
    expect(terms).toEqual(['likely missing index', 'or more rows'])
    expect((await shown({ causes })).text()).toContain('Against it: Pages did not.')
    expect((await shown({ causes: [] })).text()).toContain('Cause unknown')
    const faster = await shown({ causes: [causes[1]], ratio: { value: 0.1, low: 0.05, high: 0.2 } })
    expect(faster.get('.causes dt').text()).toBe('likely fewer rows')
  })

  it('tells what more figures made of it', async () => {
    const entry = (turnout: string) => ({
      at: '2026-03-01T08:00:00Z',
      turnout,
      ratio: 90,
      onset: '2026-03-01T06:00:00Z',
    })
    const told = await shown({ story: [entry('found'), entry('grew'), entry('withdrawn')], withdrawn: true })
    const story = told.findAll('[data-test=story] li').map((line) => line.text())
    expect(story[0]).toMatch(/larger than told before,.*90/)
    expect(story[1]).toContain('withdrawn: more figures showed no change')
    expect(told.find('[data-test=answer]').exists()).toBe(false)
  })

  it('is dismissed with a reason, and that is undone', async () => {
    const told = await shown()
    server.answers[`PUT ${ANSWER}`] = change()
    const press = async (label: string) => {
      await told
        .findAll('[data-test=answer] button')
        .find((button) => button.text().startsWith(label))!
        .trigger('click')
      await flushPromises()
    }
    await press('Dismiss')
    const dismiss = () => told.get('[data-test=answer] button[type=submit]')
    expect(dismiss().attributes('disabled')).toBeDefined()
    await told.get('input[name=reason]').setValue('A whole season now')
    expect(dismiss().attributes('disabled')).toBeUndefined()
    await told.get('[data-test=answer] form').trigger('submit')
    await flushPromises()
    expect(server.asked.some((url) => url.pathname === ANSWER)).toBe(true)
    const settled = {
      answer: 'dismissed',
      reason: 'A whole season now',
      answered_by: 'mate',
      answered_at: '2026-03-01T09:00:00Z',
    }
    const text = (await shown({ answer: settled })).get('[data-test=answer]').text()
    expect(text).toMatch(/Dismissed by mate,.*: A whole season now.*Undo/s)
  })
})
