import { flushPromises, mount } from '@vue/test-utils'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { server, stubServer } from '../testing/page'

stubServer()
const { default: ActionRun } = await import('./ActionRun.vue')
const running = {
  action_id: '7',
  state: 'running',
  started_at: '2026-03-01T06:00:00Z',
  share: null,
  phase: null,
  stop_asked_by: null,
  outcome: null,
}

describe('an action that takes long', () => {
  beforeEach(() => {
    vi.useFakeTimers()
    server.asked = []
    server.answers = {}
  })

  it('tells how far it is, is stopped on request, and says what came of it', async () => {
    server.answers['GET /api/v1/actions/7'] = { ...running, share: 0.43, phase: 'acquiring sample rows' }
    const wrapper = mount(ActionRun, { props: { action: running as never } })
    expect(wrapper.text()).toContain('Starting')
    await vi.advanceTimersByTimeAsync(1000)
    expect(wrapper.text()).toContain('acquiring sample rows')
    expect(wrapper.text()).toContain('43%')
    server.answers['POST /api/v1/actions/7/stop'] = { ...running, share: 0.5, stop_asked_by: 'pilot' }
    await wrapper.get('button').trigger('click')
    await flushPromises()
    expect(wrapper.get('button').attributes('disabled')).toBeDefined()
    server.answers['GET /api/v1/actions/7'] = {
      ...running,
      state: 'stopped',
      outcome: 'It was stopped by pilot.',
    }
    await vi.advanceTimersByTimeAsync(1000)
    await flushPromises()
    expect(wrapper.text()).toBe('It was stopped by pilot.')
    expect(wrapper.emitted('ended')).toHaveLength(1)
    const asked = server.asked.length
    await vi.advanceTimersByTimeAsync(5000)
    expect(server.asked.length).toBe(asked)
  })

  it('says so when nobody knows what came of it', () => {
    const wrapper = mount(ActionRun, { props: { action: { ...running, state: 'lost' } as never } })
    expect(wrapper.text()).toContain('The result is not known')
    expect(wrapper.find('button').exists()).toBe(false)
  })
})
