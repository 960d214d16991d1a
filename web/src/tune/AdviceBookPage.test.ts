import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: AdviceBookPage } = await import('./AdviceBookPage.vue')
const { shareOfPrediction } = await import('./verdicts')
const BOOK = 'GET /api/v1/instances/1/advice'

const advice = (advice_id: string, state: string, change: Record<string, unknown> = {}) => ({
  advice_id,
  kind: 'missing_index',
  title: 'Missing index',
  subject: `public.leg (c${advice_id})`,
  state,
  made_at: '2026-03-01T06:00:00Z',
  updated_at: '2026-03-01T06:00:00Z',
  predicted_seconds_per_day: 1000,
  predicted_freed_bytes: 0,
  effect: null,
  ...change,
})
const effect = (verdict: string, value: number | null) => ({
  verdict,
  saved_seconds_per_day: value === null ? null : { value, low: value / 2, high: value * 2 },
})
const asked = () => server.asked.filter((url) => url.pathname.endsWith('/advice')).at(-1)!.searchParams

beforeEach(() => {
  server.asked = []
  server.answers = {
    'GET /api/v1/roster': roster(instance()),
    [BOOK]: {
      matching: 3,
      record: [
        {
          kind: 'missing_index',
          title: 'Missing index',
          right: 1,
          wrong: 0,
          undecided: 1,
          measured_share: 0.9,
          outcomes: [
            {
              advice_id: '2',
              verdict: 'confirmed',
              predicted_seconds_per_day: 1000,
              measured_seconds_per_day: 900,
            },
          ],
        },
      ],
      advice: [
        advice('1', 'open'),
        advice('2', 'applied', { effect: effect('confirmed', 900) }),
        advice('3', 'applied', {
          effect: effect('too_early', null),
          kind: 'unused_index',
          title: 'Unused index',
          predicted_seconds_per_day: 0,
          predicted_freed_bytes: 8 * 1024 * 1024,
        }),
      ],
    },
  }
})

describe('the advice book', () => {
  it('holds what was predicted against what was measured', async () => {
    const { wrapper } = await show(AdviceBookPage, '/on/passage-a/tune/advice?last=6h')
    const rows = wrapper.findAll('tbody tr').map((row) => row.findAll('td').map((cell) => cell.text()))
    expect(rows.map((row) => row[0])).toEqual(['open', 'applied', 'applied'])
    expect(rows.map((row) => row[3])).toEqual(['–', 'confirmed', 'too early'])
    expect(rows[0]![2]).toBe('–')
    expect(rows[2]![1]).toMatch(/^frees 8.*MB$/)
    expect(rows[2]![4]).toContain('Unused index:')
    expect(rows[1]![2]).toMatch(/busy sessions \(15 min a day\)\s*\(90.*%\)/)
    const record = wrapper.get('[data-test=record]')
    expect(record.text()).toMatch(
      /1 of 1 right\s+measured: 90.*of the prediction.*1 recommendation undecided/,
    )
    expect(record.get('a').attributes('href')).toBe('/on/passage-a/tune/advice/2?last=6h')
    expect(wrapper.get('tbody a').attributes('href')).toBe('/on/passage-a/tune/advice/1?last=6h')
  })

  it('is filtered and sorted by the server', async () => {
    const { wrapper, router } = await show(
      AdviceBookPage,
      '/on/passage-a/tune/advice?state=applied&advice.page=2',
    )
    expect(Object.fromEntries(asked())).toMatchObject({ state: 'applied', by_age: 'false', page: '2' })
    await wrapper
      .findAll('button.sort')
      .find((button) => button.text() === 'given')!
      .trigger('click')
    await flushPromises()
    expect(router.currentRoute.value.query).toEqual({ state: 'applied', 'advice.sort': '-made' })
    expect(Object.fromEntries(asked())).toMatchObject({ by_age: 'true', page: '1' })
  })

  it('says why it is empty', async () => {
    server.answers[BOOK] = { matching: 0, advice: [], record: [] }
    const text = async (address: string) => (await show(AdviceBookPage, address)).wrapper.text()
    expect(await text('/on/passage-a/tune/advice')).toContain(
      'no missing and no unused index was found so far',
    )
    expect(await text('/on/passage-a/tune/advice?state=set_aside')).toContain(
      'No recommendation is dismissed.',
    )
  })
})

describe('what advice rests on', () => {
  const rests = (change: Record<string, unknown>) => {
    server.answers['GET /api/v1/instances/1/cost-model'] = {
      plans: 40,
      middle: 0.95,
      factor: 1.7,
      statements: [
        { family_id: '9', text: 'select fare from passage', predicted_cost: 10, planner_cost: 5, ratio: 2 },
      ],
      ...change,
    }
  }

  it('tells within which factor predicted costs agree with the planner, and of which they do not', async () => {
    rests({})
    const { wrapper } = await show(AdviceBookPage, '/on/passage-a/tune/advice')
    expect(wrapper.get('[data-test="cost-model"]').text()).toContain(
      "agree with the server's planner within a factor of 1.70 for four of five of 40 plans",
    )
    const row = wrapper.get('[data-test="costed-statements"] tbody tr')
    expect(row.text()).toContain('select fare from passage')
    expect(row.get('a').attributes('href')).toBe('/on/passage-a/diagnose/statements/9')
  })

  it('says where too few plans were read, and nothing where none was', async () => {
    rests({ plans: 3, middle: null, factor: null })
    const few = await show(AdviceBookPage, '/on/passage-a/tune/advice')
    expect(few.wrapper.get('[data-test="cost-model"]').text()).toContain('3 plans of the server: too few')
    rests({ plans: 0, middle: null, factor: null, statements: [] })
    const none = await show(AdviceBookPage, '/on/passage-a/tune/advice')
    expect(none.wrapper.find('[data-test="cost-model"]').exists()).toBe(false)
  })

  it('names the statements that no index is looked for, with the reason', async () => {
    server.answers['GET /api/v1/instances/1/statements-not-understood'] = {
      count: 3,
      share: 0.2,
      statements: [
        { family_id: '5', text: 'select note like $1', share: 0.2, why: 'it searches by a pattern' },
      ],
    }
    const { wrapper } = await show(AdviceBookPage, '/on/passage-a/tune/advice')
    expect(wrapper.text()).toContain('3 statements of the last day')
    expect(wrapper.get('[data-test="not-understood"] tbody tr').text()).toContain('it searches by a pattern')
    expect(wrapper.text()).toContain('2 statements that took less time are not shown.')
  })
})

describe('the share of a prediction that came true', () => {
  it('is not known before it is measured, nor of nothing', () => {
    expect(shareOfPrediction(null, 1000)).toBeNull()
    expect(shareOfPrediction(effect('too_early', null) as never, 1000)).toBeNull()
    expect(shareOfPrediction(effect('confirmed', 900) as never, 0)).toBeNull()
    expect(shareOfPrediction(effect('harmful', -500) as never, 1000)).toBe(-0.5)
  })
})
