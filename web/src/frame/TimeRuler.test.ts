import { flushPromises } from '@vue/test-utils'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'
import TimeRuler from './TimeRuler.vue'

const NOW = new Date('2026-03-10T12:00:00Z')
const query = 'from=2026-03-09T10:00:00Z&to=2026-03-09T12:00:00Z'
beforeEach(() => {
  stubServer()
  vi.setSystemTime(NOW)
  server.asked = []
  server.answers = {
    'GET /api/v1/roster': roster(instance()),
    'GET /api/v1/instances/1/history': {
      span: { from: '2026-03-01T00:00:00Z', to: NOW.toISOString() },
      cell_seconds: 3600,
      cells: [1, null, 2],
      markers: [{ marker_id: 1, at: '2026-03-08T09:40:00Z', kind: 'note', text: 'release' }],
    },
  }
})
afterEach(() => void vi.useRealTimers())
const ruler = (page: string, more = '') => show(TimeRuler, `/on/passage-a/diagnose/${page}?${query}${more}`)

describe('the two windows on the ruler', () => {
  it('are labelled, and read out', async () => {
    const { wrapper } = await ruler('load', '&then=7d')
    expect(wrapper.findAll('.band b').map((label) => label.text())).toEqual(['now', 'then'])
    const [now, then] = wrapper.findAll('[role=slider]').map((handle) => handle.attributes('aria-valuetext'))
    expect(now).toMatch(/^now: /)
    expect(then).toMatch(/^then: .*, 7d earlier$/)
  })

  it('stand still once they are frozen, and follow the clock again by a length', async () => {
    const { wrapper, router } = await show(TimeRuler, '/on/passage-a/diagnose/load?last=1h')
    const button = (text: string) => wrapper.findAll('button').find((one) => one.text() === text)
    await button('Freeze')!.trigger('click')
    await flushPromises()
    const { from, to, last } = router.currentRoute.value.query
    expect([from, to, last]).toEqual(['2026-03-10T11:00:00.000Z', '2026-03-10T12:00:00.000Z', undefined])
    expect(button('Freeze')).toBeUndefined()
    await button('15m')!.trigger('click')
    await flushPromises()
    expect(router.currentRoute.value.query.last).toBe('15m')
  })

  it('move by the arrow keys, each for itself', async () => {
    const { wrapper, router } = await ruler('load', '&then=1d')
    const [now, then] = wrapper.findAll('[role=slider]')
    await then!.trigger('keydown', { key: 'ArrowLeft' })
    await flushPromises()
    expect(router.currentRoute.value.query).toMatchObject({
      from: '2026-03-09T10:00:00Z',
      then: '2026-03-08T09:30:00.000Z',
    })
    await now!.trigger('keydown', { key: 'ArrowLeft' })
    await flushPromises()
    expect(router.currentRoute.value.query).toMatchObject({
      from: '2026-03-09T09:30:00.000Z',
      then: '2026-03-08T09:30:00.000Z',
    })
    await wrapper.findAll('[role=slider]')[1]!.trigger('keydown', { key: 'Delete' })
    await flushPromises()
    expect(router.currentRoute.value.query.then).toBeUndefined()
  })

  it('are chosen by a press and by typing; what is wrong is said beside the field, and stays typed', async () => {
    const { wrapper, router } = await ruler('load')
    const earlier = wrapper
      .findAll('button')
      .find((button) => button.text() === '1d' && button.attributes('title')?.includes('earlier'))!
    await earlier.trigger('click')
    await flushPromises()
    expect(router.currentRoute.value.query.then).toBe('1d')
    const input = wrapper.get('input[name=time]')
    await input.setValue('then someday')
    await wrapper.get('form').trigger('submit')
    expect(wrapper.get('[role=alert]').text()).toContain('“then someday” is no earlier time')
    expect((input.element as HTMLInputElement).value).toBe('then someday')
    await input.setValue('then none')
    await wrapper.get('form').trigger('submit')
    await flushPromises()
    expect(router.currentRoute.value.query.then).toBeUndefined()
  })

  it('are one where the page compares nothing', async () => {
    const { wrapper } = await ruler('log', '&then=7d')
    expect(wrapper.findAll('.band b').map((label) => label.text())).toEqual(['now'])
    expect(wrapper.text()).not.toContain('earlier')
  })

  it('show a history that is fetched once', async () => {
    await ruler('load', '&then=7d')
    expect(server.asked.filter((url) => url.pathname.endsWith('/history'))).toHaveLength(1)
  })
})
