import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: KeptReportsPage } = await import('./KeptReportsPage.vue')
const { default: KeptReportPage } = await import('./KeptReportPage.vue')
const LIST = 'GET /api/v1/reports'
const ONE = 'GET /api/v1/reports/7'
const span = { from: '2026-03-01T06:00:00Z', to: '2026-03-02T06:00:00Z' }
const row = {
  report_id: '7',
  instance_id: 1,
  instance: 'passage-a',
  kind: 'period',
  title: 'Report on a period: passage-a',
  span,
  made_at: '2026-03-02T06:02:00Z',
  made_by: 'each day',
  words: 'Called the desk.\nNobody answered.',
}
const schedule = {
  schedule_id: 3,
  kind: 'instances',
  group: 'sea',
  every: 'week',
  weekday: 'monday',
  at: '07:00',
  time_zone: 'UTC',
  most_kept: 30,
  made_by: 'mate',
  next_at: '2026-03-09T07:00:00Z',
  problem: 'No instance is in this group.',
}
const report = {
  kind: 'period',
  title: row.title,
  instance: 'passage-a',
  span,
  then: null,
  made_at: row.made_at,
  remarks: ['This is a report on its longest part.'],
  words: row.words,
  sections: [],
}

beforeEach(() => {
  server.asked = []
  server.refused = undefined
  server.answers = {
    'GET /api/v1/roster': roster(instance()),
    'GET /api/v1/session': { name: 'mate', role: 'tuner', groups: [], csrf_token: 'kelp' },
    'GET /api/v1/reports/kinds': [
      {
        kind: 'period',
        title: 'Report on a period',
        is_of_many: false,
        may_be_scheduled: true,
        sections: [],
      },
      {
        kind: 'incident',
        title: 'Incident report',
        is_of_many: false,
        may_be_scheduled: false,
        sections: [],
      },
      {
        kind: 'instances',
        title: 'Summary of instances',
        is_of_many: true,
        may_be_scheduled: true,
        sections: [
          { section: 'each_instance', title: 'Each instance' },
          { section: 'alarms', title: 'Alarms' },
        ],
      },
    ],
    [LIST]: { matching: 1, reports: [row] },
    [ONE]: report,
    'GET /api/v1/report-schedules': [schedule],
  }
})

describe('kept reports', () => {
  it('are listed with their words, and schedules with what stands in their way', async () => {
    const { wrapper } = await show(KeptReportsPage, '/diagnose/reports')
    const kept = wrapper.get('[data-test=kept]')
    expect(kept.get('a').attributes('href')).toBe('/diagnose/reports/7')
    expect(kept.text()).toContain('Called the desk.')
    expect(kept.text()).not.toContain('Nobody answered.')
    const schedules = wrapper.get('[data-test=schedules]').text()
    expect(schedules).toContain('Summary of instances')
    expect(schedules).toContain('group sea')
    expect(schedules).toContain('every Monday at 07:00')
    expect(schedules).toContain('No instance is in this group.')
  })

  it('are narrowed and sorted by the server, and say so where none matches', async () => {
    server.answers[LIST] = { matching: 0, reports: [] }
    const { wrapper } = await show(
      KeptReportsPage,
      '/diagnose/reports?kind=period&search=desk&kept.sort=title',
    )
    const asked = server.asked.find((one) => one.pathname === '/api/v1/reports')!.searchParams
    expect(Object.fromEntries(asked)).toEqual({
      kind: 'period',
      search: 'desk',
      sort: 'title',
      ascending: 'true',
      page: '1',
      page_size: '25',
    })
    expect(wrapper.text()).toContain('No kept report matches.')
  })

  it('are made by themselves with the sections that were chosen', async () => {
    server.answers['PUT /api/v1/report-schedules/3'] = schedule
    const fetched = vi.spyOn(globalThis, 'fetch')
    const { wrapper } = await show(KeptReportsPage, '/diagnose/reports')
    const press = async (says: string) => {
      await wrapper
        .get('[data-test=schedules]')
        .findAll('button')
        .find((one) => one.text() === says)!
        .trigger('click')
      await flushPromises()
    }
    await press('Edit')
    const sections = document.querySelector('.ant-modal [aria-label=Sections]')!
    const boxes = [...sections.querySelectorAll<HTMLInputElement>('input')]
    expect(boxes.map((box) => box.checked)).toEqual([true, true])
    boxes[1]!.click()
    await flushPromises()
    document.querySelector<HTMLFormElement>('.ant-modal form')!.dispatchEvent(new Event('submit'))
    await flushPromises()
    const sent = fetched.mock.calls
      .map(([request]) => request as Request)
      .find(({ method }) => method === 'PUT')
    expect(await sent!.json()).toMatchObject({ kind: 'instances', group: 'sea', sections: 'each_instance' })
  })

  it('are none yet, and the page says how to get one', async () => {
    server.answers[LIST] = { matching: 0, reports: [] }
    server.answers['GET /api/v1/report-schedules'] = []
    const { wrapper } = await show(KeptReportsPage, '/diagnose/reports')
    expect(wrapper.text()).toContain('No report is kept yet')
    expect(wrapper.text()).toContain('No report is made by itself')
  })
})

describe('a kept report', () => {
  it('shows its remark and its words, and its files have its address', async () => {
    const { wrapper } = await show(KeptReportPage, '/diagnose/reports/7')
    const text = wrapper.get('[data-test=report]').text()
    expect(text).toContain('This is a report on its longest part.')
    expect(text).toContain('Nobody answered.')
    const files = wrapper.findAll('a[download]').map((link) => link.attributes('href'))
    expect(files).toContain('/api/v1/reports/7?form=html')
  })

  it('takes words, and keeps what was typed when the server refuses it', async () => {
    const { wrapper } = await show(KeptReportPage, '/diagnose/reports/7')
    const press = async (says: string) => {
      await wrapper
        .findAll('button')
        .find((one) => one.text() === says)!
        .trigger('click')
      await flushPromises()
    }
    await press('Edit the words')
    await wrapper.get('textarea').setValue('It was the anchor.')
    server.refused = {
      'PUT /api/v1/reports/7/words': { field: 'words', value: '', remedy: 'Shorten it.' },
    }
    await wrapper.get('form').trigger('submit')
    await flushPromises()
    expect(wrapper.get('textarea').element.value).toBe('It was the anchor.')
    expect(wrapper.get('[data-test=words]').text()).toContain('Shorten it.')
  })
})
