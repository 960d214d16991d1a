import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: FindingsNote } = await import('./FindingsNote.vue')
const finding = (family_id: string | null, lost: number, more: Record<string, unknown> = {}) => ({
  family_id,
  text: family_id ? `select ${family_id}` : '',
  change: {
    measured: 'time_per_call',
    onset: '2026-03-01T06:00:00Z',
    until: null,
    ratio: { value: lost > 0 ? 3 : 0.3, low: 2, high: 4 },
    before: { typical: 1 },
    after: { typical: 3 },
    from_time_per_call: lost,
    asks: true,
    answer: null,
    ...more,
  },
})
const answered = (answer: string) => ({ asks: answer === 'followed', answer: { answer } })
const lines = async (changes: unknown[], advice: unknown[] = []) => {
  server.answers = {
    'GET /api/v1/roster': roster(instance()),
    'GET /api/v1/instances/1/changes': changes,
    'GET /api/v1/instances/1/advice': { matching: advice.length, advice, record: [] },
  }
  const { wrapper } = await show(FindingsNote, '/on/passage-a/diagnose/load?last=15m')
  await flushPromises()
  return wrapper.findAll('li').map((line) => line.text().replace(/\s+/g, ' '))
}

beforeEach(() => {
  server.asked = []
})

describe('what a tired reader sees first', () => {
  it('tells each statement once, the costliest first, and the whole server as such', async () => {
    const told = await lines([
      finding('1', 0.1),
      finding('2', 0.3),
      finding('1', 0.5),
      finding(null, 0.4),
      finding('3', -1),
    ])
    expect(told).toHaveLength(4)
    expect(told[3]).toBe('2 more lasting changes')
    expect(told[0]).toContain('select 1')
    expect(told[1]).toMatch(/The whole server is slower since .*nearly all statements take 3.* times as long/)
    expect(told[2]).toContain('select 2')
  })

  it('leaves out what somebody settled or what is over, and keeps what is followed', async () => {
    const told = await lines([
      finding('1', 0.1, answered('accepted')),
      finding('2', 0.1, answered('dismissed')),
      finding('3', 0.1, answered('followed')),
      finding('4', 0.1, { asks: false, until: '2026-03-01T07:00:00Z' }),
    ])
    expect(told).toHaveLength(1)
    expect(told[0]).toContain('select 3')
  })

  it('tells what a recommendation would save, and nothing where there is nothing', async () => {
    const advice = { advice_id: '5', subject: 'public.leg (state)', predicted_seconds_per_day: 43_200 }
    expect((await lines([], [advice]))[0]).toContain('an index would save about 0.5')
    expect(await lines([])).toEqual([])
  })
})
