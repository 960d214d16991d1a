import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: FirstLookPage } = await import('./FirstLookPage.vue')
const finding = (check: string, verdict: string, change: Record<string, unknown> = {}) => ({
  check,
  title: `About ${check}`,
  asks: 'What is it?',
  verdict,
  summary: `All is well with ${check}.`,
  points: [],
  facts: [],
  ...change,
})
const point = (verdict: string, text: string, change: Record<string, unknown> = {}) => ({
  verdict,
  text,
  since: null,
  step: 'Do something.',
  statement: null,
  page: null,
  id: null,
  ...change,
})

describe('the first look', () => {
  beforeEach(() => {
    server.asked = []
    server.answers = {
      'GET /api/v1/session': { name: 'mate', role: 'reader', groups: [], csrf_token: 'kelp' },
      'GET /api/v1/roster': roster(instance()),
      'GET /api/v1/instances/1/first-look': {
        instance: 'passage-a',
        place: 'passage-host:5432/passage',
        server_version: '15.18',
        at: '2026-03-01T06:10:00Z',
        lately: { from: '2026-02-28T06:10:00Z', to: '2026-03-01T06:10:00Z' },
        verdicts: { act: 1, look: 1, no_data: 1, quiet: 1 },
        findings: [
          finding('contents', 'quiet', {
            facts: [
              { what: 'Tables', value: '13', at: null },
              { what: 'Started', value: '', at: '2026-03-01T05:00:00Z' },
            ],
          }),
          finding('indexes', 'look', {
            points: [
              point('look', 'One says the same as another.', { statement: 'DROP INDEX CONCURRENTLY a;' }),
              point('look', 'An index is missing.', { page: 'advice', id: '7' }),
            ],
          }),
          finding('backups', 'no_data', { points: [point('no_data', 'No backup is known.')] }),
          finding('locks', 'act', {
            points: [point('act', 'A supervisor <b>blocks</b> 37.', { since: '2026-03-01T06:00:00Z' })],
          }),
        ],
      },
    }
  })

  it('puts first what somebody must do, and keeps the checks in their order', async () => {
    const { wrapper } = await show(FirstLookPage, '/on/passage-a/diagnose/first-look')
    const urgent = wrapper.findAll('[data-test=urgent] li').map((row) => row.text())
    expect(urgent).toHaveLength(3)
    expect(urgent[0]).toContain('A supervisor <b>blocks</b> 37.')
    expect(urgent.join(' ')).not.toContain('No backup')
    const heads = wrapper.findAll('section h2').map((head) => head.text())
    expect(heads).toEqual(['1. About contents', '2. About indexes', '3. About backups', '4. About locks'])
    expect(wrapper.get('[data-test=check-contents]').text()).toContain('All is well with contents.')
    expect(wrapper.get('[data-test=check-indexes]').text()).toContain('DROP INDEX CONCURRENTLY a;')
    const links = wrapper.findAll('a').map((link) => link.attributes('href'))
    expect(links).toContain('/on/passage-a/tune/advice/7')
    expect(links).toContain('/api/v1/instances/1/report?kind=first_look&form=text')
    expect(wrapper.html()).not.toContain('<b>blocks</b>')
  })

  it('is printed with its evidence, and looks again when asked', async () => {
    const printed = vi.fn()
    vi.stubGlobal('print', printed)
    const { wrapper } = await show(FirstLookPage, '/on/passage-a/diagnose/first-look')
    expect(wrapper.find('details[open]').exists()).toBe(false)
    const press = async (text: string) => {
      await wrapper
        .findAll('button')
        .find((one) => one.text() === text)!
        .trigger('click')
      await flushPromises()
    }
    await press('Print')
    expect(printed).toHaveBeenCalledOnce()
    expect(wrapper.find('details[open]').exists()).toBe(true)
    const looks = () => server.asked.filter((url) => url.pathname.endsWith('/first-look')).length
    const before = looks()
    await press('Refresh')
    expect(looks()).toBe(before + 1)
  })
})
