import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: ThresholdsPage } = await import('./ThresholdsPage.vue')
const threshold = (threshold_id: number, change: Record<string, unknown> = {}) => ({
  threshold_id,
  instance: null,
  group: null,
  figure: 'volume_free',
  title: 'Volume free',
  unit: 'bytes',
  object: null,
  side: 'low',
  value: 5 * 1024 ** 3,
  clears_at: 6 * 1024 ** 3,
  lasts_minutes: 30,
  verdict: 'act',
  step: 'Call the pilot.',
  is_on: true,
  ...change,
})
const cell = (at: string, value: number, is_raised: boolean) => ({ at, value, is_raised })
const trial = {
  span: { from: '2026-03-01T00:00:00Z', to: '2026-03-15T00:00:00Z' },
  unit: 'bytes',
  instances_meant: 60,
  instances_tried: 40,
  weeks: 2,
  raised: 3,
  one_a_week: 4 * 1024 ** 3,
  objects: [
    {
      instance: 'tides',
      object: '/data',
      bucket_seconds: 600,
      raised: 3,
      beyond_seconds: 7200,
      cells: [
        cell('2026-03-01T00:00:00Z', 8 * 1024 ** 3, false),
        cell('2026-03-02T00:00:00Z', 1024 ** 3, true),
      ],
    },
  ],
}

describe('thresholds', () => {
  beforeEach(() => {
    server.asked = []
    server.answers = {
      'GET /api/v1/session': { name: 'pilot', role: 'administrator', groups: [], csrf_token: 'kelp' },
      'GET /api/v1/roster': roster(instance({ label: 'tides' })),
      'GET /api/v1/figures': [
        { figure: 'load', title: 'Busy sessions', unit: 'count', meaning: 'Sessions at a moment.' },
        { figure: 'volume_free', title: 'Volume free', unit: 'bytes', meaning: 'Space on a file system.' },
      ],
      'GET /api/v1/thresholds': [threshold(1), threshold(2, { instance: 'tides', is_on: false })],
      'GET /api/v1/thresholds/trial': trial,
    }
  })

  it('say when they raise an alarm, for whom, and when it is over', async () => {
    server.answers['GET /api/v1/session'] = { name: 'mate', role: 'reader', groups: [], csrf_token: 'kelp' }
    const { wrapper } = await show(ThresholdsPage, '/watch/thresholds')
    const rows = wrapper.findAll('[data-test=thresholds] tbody tr').map((row) => row.text())
    expect(rows[0]).toMatch(
      /Volume free\s*all instances\s*below 5.GB for 30.min; over at 6.GB.*Call the pilot\.\s*yes/,
    )
    expect(rows[1]).toMatch(/tides.*no/)
    expect(wrapper.text()).not.toContain('Create threshold')
  })

  it('are set with their past against them, in units that people type', async () => {
    server.answers['PUT /api/v1/thresholds/1'] = threshold(1)
    const { wrapper } = await show(ThresholdsPage, '/watch/thresholds')
    await wrapper.findAll('[data-test=thresholds] tbody tr')[0]!.get('button').trigger('click')
    await vi.waitFor(() => expect(document.querySelector('[data-test=trial] svg')).not.toBeNull())
    expect(document.querySelector<HTMLInputElement>('#t-value')!.value).toBe('5120')
    const past = document.querySelector('[data-test=trial]')!
    expect(past.textContent).toMatch(/would have raised 3.alarms, 1\.50 a week.*the first 40 of 60.instances/)
    expect(past.querySelectorAll('svg.past')).toHaveLength(1)
    past.querySelector<HTMLButtonElement>('[data-test=use]')!.click()
    await flushPromises()
    expect(document.querySelector<HTMLInputElement>('#t-value')!.value).toBe('4096')
    expect(document.querySelector<HTMLInputElement>('#t-clears')!.value).toBe('4920')
    document.querySelector<HTMLFormElement>('.ant-modal form')!.dispatchEvent(new Event('submit'))
    await flushPromises()
    expect(server.asked.some((url) => url.pathname === '/api/v1/thresholds/1')).toBe(true)
  })

  it('say why the past cannot be shown', async () => {
    delete server.answers['GET /api/v1/thresholds/trial']
    const { wrapper } = await show(ThresholdsPage, '/watch/thresholds')
    await wrapper.findAll('[data-test=thresholds] tbody tr')[0]!.get('button').trigger('click')
    const told = () => document.querySelector('[data-test=trial] [role=status]')?.textContent ?? ''
    await vi.waitFor(() => expect(told()).toMatch(/The past cannot be shown: .+/))
  })
})
