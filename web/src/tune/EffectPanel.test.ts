import { beforeEach, describe, expect, it } from 'vitest'
import { defineComponent, h } from 'vue'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: EffectPanel } = await import('./EffectPanel.vue')
const DAY = 86_400
const effect = (more: Record<string, unknown> = {}) => ({
  verdict: 'confirmed',
  saved_seconds_per_day: { value: 0.5 * DAY, low: 0.4 * DAY, high: 0.6 * DAY },
  before_ms: 240,
  after_ms: 3,
  drift: 1.2,
  drift_between: { value: 1.2, low: 1.1, high: 1.3 },
  controls: 30,
  after_buckets: 12,
  needed_buckets: 5,
  families: 2,
  waiting: 0,
  together_with: [],
  after_until: null,
  meanwhile: [],
  never_read: false,
  measured_at: '2026-03-01T08:00:00Z',
  ...more,
})
const shown = async (more: Record<string, unknown> = {}) => {
  const advice = {
    state: 'applied',
    predicted_seconds_per_day: DAY,
    predicted_freed_bytes: 0,
    applied_at: '2026-03-01T06:00:00Z',
    applied_by: 'collector',
    effect: effect(more),
  }
  const page = defineComponent({ render: () => h(EffectPanel, { advice: advice as never }) })
  const { wrapper } = await show(page, '/on/passage-a/tune/advice/1')
  return { wrapper, text: wrapper.text().replace(/\s+/g, ' ') }
}

beforeEach(() => {
  server.answers = { 'GET /api/v1/roster': roster(instance()) }
})

describe('a measured effect', () => {
  it('tells savings as busy sessions and time a day, with the interval and the share of the prediction', async () => {
    const { text } = await shown()
    expect(text).toMatch(
      /0\.5.* busy sessions \(12 h a day\) saved, between 0\.4.* and 0\.6.*: 50.% of what was/,
    )
    expect(text).toMatch(
      /30 statements that no recommendation touched: .* factor of 1\.2.* \(1\.1.* to 1\.3.*\)/,
    )
    expect(text).not.toMatch(/measured on|together with|meanwhile,? this|measured until/)
  })

  it('tells what it could not be told apart from, what ran too rarely, and when it ends', async () => {
    const { wrapper, text } = await shown({
      waiting: 3,
      together_with: ['7', '9'],
      after_until: '2026-03-01T07:00:00Z',
      meanwhile: ['work_mem: 4MB → 1MB'],
    })
    expect(text).toContain('2 statements; 3 more ran too rarely so far')
    expect(wrapper.findAll('a').map((link) => link.attributes('href'))).toEqual([
      '/on/passage-a/tune/advice/7',
      '/on/passage-a/tune/advice/9',
    ])
    expect(text).toContain('work_mem: 4MB → 1MB: this may have moved')
    expect(text).toContain('when another recommendation was carried out')
  })

  it('says so where the index was never read, and where nothing can be compared with', async () => {
    const { text } = await shown({ verdict: 'no_effect', never_read: true, controls: 0 })
    expect(text).toContain('The server has not read it once since it was made')
    expect(text).toContain('nothing: all statements may have been touched')
  })

  it('says how much is missing while it is too early', async () => {
    const { text } = await shown({ verdict: 'too_early', saved_seconds_per_day: null, after_buckets: 2 })
    expect(text).toContain('2 of 5 periods since the change have calls')
    expect(text).not.toContain('compared with')
  })
})
