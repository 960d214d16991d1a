import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import { roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: WindowsPage } = await import('./WindowsPage.vue')
const window = (window_id: number, name: string, change: Record<string, unknown> = {}) => ({
  window_id,
  name,
  instance: null,
  group: 'sea',
  days: ['saturday', 'sunday'],
  start: '01:30',
  minutes: 90,
  time_zone: 'UTC',
  is_open: false,
  until: '2026-03-07T01:30:00Z',
  ...change,
})

describe('maintenance windows', () => {
  beforeEach(() => {
    server.asked = []
    server.answers = {
      'GET /api/v1/session': { name: 'mate', role: 'reader', groups: [], csrf_token: 'kelp' },
      'GET /api/v1/roster': roster(),
      'GET /api/v1/maintenance-windows': [
        window(1, 'weekend'),
        window(2, 'nightly', {
          instance: 'settle',
          group: null,
          days: ['monday', 'tuesday', 'wednesday', 'thursday', 'friday', 'saturday', 'sunday'],
          is_open: true,
          until: '2026-03-01T06:00:00Z',
        }),
      ],
    }
  })

  it('are listed with the next first, and can only be looked at by readers', async () => {
    const { wrapper } = await show(WindowsPage, '/maintenance-windows')
    const rows = wrapper.findAll('[data-test=windows] tbody tr').map((row) => row.text())
    expect(rows[0]).toMatch(/nightly\s*settle\s*every day at 01:30.*open until/)
    expect(rows[1]).toMatch(/weekend\s*group sea\s*sat, sun at 01:30/)
    expect(wrapper.text()).not.toContain('Create window')
  })

  it('are changed by administrators, beginning with what is set', async () => {
    server.answers['GET /api/v1/session'] = {
      name: 'pilot',
      role: 'administrator',
      groups: [],
      csrf_token: 'k',
    }
    server.answers['PUT /api/v1/maintenance-windows/1'] = window(1, 'weekend')
    const { wrapper } = await show(WindowsPage, '/maintenance-windows')
    await wrapper.findAll('[data-test=windows] tbody tr')[1]!.get('button').trigger('click')
    await flushPromises()
    expect(document.querySelector<HTMLInputElement>('#w-group')!.value).toBe('sea')
    expect(document.querySelectorAll('.day input:checked')).toHaveLength(2)
    document.querySelector<HTMLFormElement>('.ant-modal form')!.dispatchEvent(new Event('submit'))
    await flushPromises()
    expect(server.asked.some((url) => url.pathname === '/api/v1/maintenance-windows/1')).toBe(true)
  })
})
