import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import { roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: ActionsPage } = await import('./ActionsPage.vue')
const action = (action_id: string, change: Record<string, unknown> = {}) => ({
  action_id,
  instance: 'passage-a',
  kind: 'end_session',
  title: 'End a session',
  told: 'The session ends.',
  statement: 'SELECT pg_terminate_backend(pid)',
  reason: 'it blocks the gate',
  state: 'proposed',
  proposed_by: 'mate',
  proposed_at: '2026-03-01T06:00:00Z',
  decided_by: null,
  decided_at: null,
  started_at: null,
  ended_at: null,
  share: null,
  phase: null,
  stop_asked_by: null,
  outcome: null,
  may_not_approve: null,
  ...change,
})

describe('actions and approvals', () => {
  beforeEach(() => {
    server.asked = []
    server.answers = {
      'GET /api/v1/session': { name: 'pilot', role: 'administrator', groups: [], csrf_token: 'kelp' },
      'GET /api/v1/roster': roster(),
      'GET /api/v1/house-rules': { second_person: true, proposed: null },
      'GET /api/v1/actions': {
        matching: 3,
        actions: [
          action('3'),
          action('2', { proposed_by: 'pilot', may_not_approve: 'a second person must approve' }),
          action('1', {
            state: 'failed',
            started_at: '2026-03-01T06:01:00Z',
            outcome: 'The server refused.',
          }),
        ],
      },
    }
  })

  it('lets one approve what somebody else proposed, and withdraw what one proposed', async () => {
    const { wrapper } = await show(ActionsPage, '/actions')
    const acts = wrapper
      .findAll('[data-test=actions] tbody tr')
      .map((row) => row.findAll('td').at(-1)!.text())
    expect(acts).toEqual(['ApproveRefuse', 'Withdraw', ''])
    expect(wrapper.text()).toContain('The server refused.')
    expect(wrapper.text()).toContain('A second person must approve every action.')
    server.answers['DELETE /api/v1/actions/2'] = action('2', { state: 'withdrawn' })
    await wrapper
      .findAll('button')
      .find((one) => one.text() === 'Withdraw')!
      .trigger('click')
    await flushPromises()
    expect(server.asked.some((url) => url.pathname === '/api/v1/actions/2')).toBe(true)
  })

  it('sets the rule with its reason, and keeps the reason when the server does not', async () => {
    server.answers['GET /api/v1/house-rules'] = { second_person: false, proposed: null }
    const { wrapper } = await show(ActionsPage, '/actions')
    const reason = () => wrapper.get('form input').element as HTMLInputElement
    await wrapper.get('form input').setValue('four eyes see more')
    await wrapper.get('form').trigger('submit')
    await flushPromises()
    expect(reason().value).toBe('four eyes see more')
    server.answers['PUT /api/v1/house-rules'] = { second_person: true, proposed: null }
    await wrapper.get('form').trigger('submit')
    await flushPromises()
    expect(reason().value).toBe('')
  })
})
