import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'
import { isNumber, written } from './reportCells'

stubServer()
const { default: ReportPage } = await import('./ReportPage.vue')
const REPORT = 'GET /api/v1/instances/1/report'
const ADDRESS = '/on/passage-a/diagnose/reports?from=2026-03-01T06:00:00Z&to=2026-03-01T07:00:00Z'
const report = {
  kind: 'period',
  title: 'Report on a period: passage-a',
  instance: 'passage-a',
  span: { from: '2026-03-01T06:00:00Z', to: '2026-03-01T07:00:00Z' },
  then: { from: '2026-02-28T06:00:00Z', to: '2026-02-28T07:00:00Z' },
  made_at: '2026-03-01T07:00:01Z',
  sections: [
    {
      key: 'load',
      title: 'Load',
      sentences: ['97 % of the pages came from the cache.'],
      tables: [
        {
          name: 'load',
          title: 'Work of all statements',
          columns: [
            { name: 'figure', title: 'figure', unit: 'text' },
            { name: 'time', title: 'time', unit: 'seconds' },
            { name: 'statement', title: 'statement', unit: 'code' },
          ],
          rows: [['<b>gate</b>', 90, null]],
        },
        { name: 'none', title: 'Nothing to tell', columns: [], rows: [] },
      ],
    },
  ],
}
const asked = () => server.asked.filter((url) => url.pathname.endsWith('/report')).at(-1)!.searchParams

beforeEach(() => {
  server.asked = []
  server.refused = undefined
  server.answers = {
    'GET /api/v1/roster': roster(instance()),
    'GET /api/v1/reports/kinds': [
      {
        kind: 'period',
        title: 'Report on a period',
        sections: [
          { section: 'changed', title: 'What changed' },
          { section: 'load', title: 'Load' },
        ],
      },
      { kind: 'incident', title: 'Incident report', sections: [{ section: 'timeline', title: 'Timeline' }] },
    ],
    [REPORT]: report,
  }
})

describe('a report', () => {
  it('is shown with its sentences first and its tables in their units', async () => {
    const { wrapper } = await show(ReportPage, ADDRESS)
    expect(asked().get('kind')).toBe('period')
    const section = wrapper.get('[data-test=load]')
    expect(section.text()).toContain('97 % of the pages')
    expect(section.findAll('td').map((cell) => cell.text())).toEqual(['<b>gate</b>', '90\u00a0s', ''])
    expect(section.text()).not.toContain('Nothing to tell')
  })

  it('has the sections that are chosen, and files of the same', async () => {
    const { wrapper, router } = await show(ReportPage, ADDRESS)
    await wrapper.findAll('input[type=checkbox]')[0]!.setValue(false)
    await flushPromises()
    expect(router.currentRoute.value.query.sections).toBe('load')
    expect(asked().get('sections')).toBe('load')
    const html = wrapper.findAll('.forms a').find((link) => link.text() === 'HTML')!
    const file = new URL(html.attributes('href')!, 'http://x').searchParams
    expect(Object.fromEntries(file)).toMatchObject({ kind: 'period', sections: 'load', form: 'html' })
    await wrapper.get('select').setValue('incident')
    await flushPromises()
    expect(Object.fromEntries(asked())).toMatchObject({ kind: 'incident' })
    expect(asked().get('sections')).toBeNull()
  })

  it('offers the parts of a period that has a restart in it', async () => {
    const part = { from: '2026-03-01T06:20:00Z', to: '2026-03-01T07:00:00Z' }
    const remedy = 'Counters do not go through this period (the server was restarted).'
    server.refused = { [REPORT]: { field: 'from', value: '2026-03-01T06:00:00Z', remedy, parts: [part] } }
    const { wrapper, router } = await show(ReportPage, ADDRESS)
    expect(wrapper.get('[data-test=parts]').text()).toContain('the server was restarted')
    server.refused = undefined
    await wrapper.get('[data-test=parts] button').trigger('click')
    await flushPromises()
    expect(router.currentRoute.value.query.from).toBe('2026-03-01T06:20:00.000Z')
    expect(wrapper.find('[data-test=parts]').exists()).toBe(false)
    expect(wrapper.find('[data-test=load]').exists()).toBe(true)
  })

  it('says what is wrong where there is none', async () => {
    delete server.answers[REPORT]
    const { wrapper } = await show(ReportPage, ADDRESS)
    expect(wrapper.text()).toContain('Not there')
  })
})

describe('cells', () => {
  it('are written in the unit of their column', () => {
    expect(written(0.25, 'share')).toBe('25\u00a0%')
    expect(written(null, 'bytes')).toBe('')
    expect(written(2.5, 'times')).toBe('× 2.50')
    expect([isNumber('code'), isNumber('count')]).toEqual([false, true])
  })
})
