import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import { roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: AccountPage } = await import('./AccountPage.vue')
const { default: AccountsPage } = await import('./AccountsPage.vue')
const { default: AuditPage } = await import('./AuditPage.vue')
const { default: NewPassword } = await import('./NewPassword.vue')

const current = { name: 'mate', role: 'tuner', groups: ['sea'], must_set_password: false, csrf_token: 'kelp' }
const moment = '2026-03-01T06:00:00Z'
const session = (change: Record<string, unknown> = {}) => ({
  session_id: 1,
  client: '192.0.2.7',
  program: 'a browser',
  began_at: moment,
  seen_at: moment,
  expires_at: moment,
  is_this: false,
  ...change,
})
beforeEach(() => {
  server.asked = []
  server.answers = { 'GET /api/v1/session': current, 'GET /api/v1/roster': roster() }
})
const asked = () => server.asked.map((url) => url.pathname)

describe('one’s own account', () => {
  beforeEach(() => {
    server.answers['GET /api/v1/account/sessions'] = [session({ is_this: true }), session({ session_id: 2 })]
    server.answers['GET /api/v1/account/tokens'] = [
      { token_id: 5, name: 'nightly', role: 'reader', made_at: moment, seen_at: null, expires_at: moment },
    ]
  })

  it('tells what it may do, where it is signed in, and its tokens', async () => {
    const { wrapper } = await show(AccountPage, '/account')
    expect(wrapper.text()).toContain('sees the instances of sea')
    const [mine, other] = wrapper.findAll('[data-test=sessions] tbody tr').map((row) => row.text())
    expect(mine).toContain('this session')
    expect(other).toContain('End session')
    expect(wrapper.find('[data-test=tokens] tbody').text()).toMatch(/nightly.*reader.*never.*expired/)
  })

  it('ends another session, and asks anew', async () => {
    server.answers['DELETE /api/v1/account/sessions/2'] = {}
    const { wrapper } = await show(AccountPage, '/account')
    const button = wrapper.findAll('button').find((one) => one.text() === 'End session')
    await button!.trigger('click')
    await flushPromises()
    expect(asked()).toContain('/api/v1/account/sessions/2')
    expect(asked().filter((path) => path === '/api/v1/account/sessions')).toHaveLength(2)
  })

  it('tells a new token once, and what was wrong with one that is refused', async () => {
    const { wrapper } = await show(AccountPage, '/account')
    await wrapper.find('input[name=token]').setValue('deploys')
    await wrapper.findAll('form')[1]!.trigger('submit')
    await flushPromises()
    expect(wrapper.text()).toContain('No /api/v1/account/tokens.')
    server.answers['POST /api/v1/account/tokens'] = { token_id: 6, token: 'hurnix_told-once' }
    await wrapper.findAll('form')[1]!.trigger('submit')
    await flushPromises()
    expect(wrapper.find('[data-test=told-once]').text()).toContain('hurnix_told-once')
  })

  it('does not send two new passwords that differ', async () => {
    const { wrapper } = await show(AccountPage, '/account')
    await wrapper.find('input[name=current]').setValue('lantern-and-tide')
    await wrapper.find('input[name=new]').setValue('fog over the narrows')
    await wrapper.find('input[name=again]').setValue('fog over the harbour')
    expect(wrapper.text()).toContain('The two new passwords differ.')
    expect(wrapper.find('form button[type=submit]').attributes('disabled')).toBeDefined()
  })
})

describe('a one-time password', () => {
  it('is replaced by another, and then the page that was asked for opens', async () => {
    server.answers['GET /api/v1/session'] = { ...current, must_set_password: true }
    const { wrapper, router } = await show(NewPassword, '/audit-trail?next=/accounts')
    await wrapper.find('input[name=current]').setValue('told-once')
    await wrapper.find('input[name=new]').setValue('fog over the narrows')
    await wrapper.find('input[name=again]').setValue('fog')
    expect(wrapper.text()).toContain('differ')
    await wrapper.find('input[name=again]').setValue('fog over the narrows')
    server.answers['PUT /api/v1/account/password'] = {}
    await wrapper.find('form').trigger('submit')
    await flushPromises()
    expect(asked()).toContain('/api/v1/account/password')
    expect(router.currentRoute.value.path).toBe('/accounts')
  })
})

describe('the accounts of all', () => {
  const account = (change: Record<string, unknown>) => ({
    account_id: 1,
    name: 'mate',
    role: 'tuner',
    groups: ['sea'],
    one_time: false,
    created_at: moment,
    seen_at: null,
    ...change,
  })

  it('tells who may do what, and that administrators see all', async () => {
    server.answers['GET /api/v1/accounts'] = [
      account({}),
      account({ account_id: 2, name: 'harbourmaster', role: 'administrator', groups: [], one_time: true }),
    ]
    const { wrapper } = await show(AccountsPage, '/accounts')
    const [mate, master] = wrapper.findAll('[data-test=accounts] tbody tr').map((row) => row.text())
    expect(mate).toContain('sea')
    expect(mate).toContain('never')
    expect(master).toContain('all groups')
    expect(master).toContain('has a one-time password')
  })

  it('does not offer to remove oneself', async () => {
    server.answers['GET /api/v1/accounts'] = [account({}), account({ account_id: 2, name: 'bosun' })]
    const { wrapper } = await show(AccountsPage, '/accounts')
    const removes = wrapper.findAll('button').filter((one) => one.text() === 'Delete')
    expect(removes.map((one) => one.attributes('disabled') !== undefined)).toEqual([true, false])
  })
})

describe('the audit trail', () => {
  const entry = (change: Record<string, unknown> = {}) => ({
    audit_id: '1',
    at: moment,
    account: 'mate',
    means: 'session',
    client: '192.0.2.7',
    action: 'note_marker',
    instance: 'passage-a',
    detail: 'new timetable',
    outcome: 'done',
    ...change,
  })

  it('lists who did what, and narrows to one account or action by a click', async () => {
    server.answers['GET /api/v1/audit'] = {
      entries: [entry(), entry({ audit_id: '2', outcome: 'refused', detail: 'forbidden' })],
      matching: 2,
    }
    const { wrapper, router } = await show(AuditPage, '/audit-trail')
    expect(wrapper.find('[data-test=audit] tbody').text()).toContain('note marker')
    await wrapper
      .findAll('button')
      .find((one) => one.text() === 'note marker')!
      .trigger('click')
    await flushPromises()
    expect(router.currentRoute.value.query.action).toBe('note_marker')
    expect(server.asked.at(-1)!.searchParams.get('action')).toBe('note_marker')
    expect(wrapper.find('.chip').text()).toContain('note marker')
    expect(wrapper.find('.tools').text()).toContain('2 entries')
  })

  it('says so when nothing was done', async () => {
    server.answers['GET /api/v1/audit'] = { entries: [], matching: 0 }
    const { wrapper } = await show(AuditPage, '/audit-trail?outcome=failed')
    expect(wrapper.text()).toContain('No entry of this period matches.')
    expect(server.asked.at(-1)!.searchParams.get('outcome')).toBe('failed')
  })
})
