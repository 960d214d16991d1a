import { beforeEach, describe, expect, it } from 'vitest'
import type { Schemas } from '../api/client'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: ReplicationPage } = await import('./ReplicationPage.vue')

const member = (change: Partial<Schemas['ReplicatedServer']>): Schemas['ReplicatedServer'] => ({
  name: 'passage-a',
  instance_id: 1,
  address: 'passage-host:5432',
  depth: 0,
  part: 'primary',
  state: '',
  synchronous: '',
  slot: null,
  behind_seconds: null,
  behind_bytes: null,
  behind_transactions: null,
  promotion: null,
  ...change,
})
const replica = member({
  name: 'passage-b',
  instance_id: 2,
  depth: 1,
  part: 'replica',
  state: 'streaming',
  synchronous: 'async',
  slot: 'board',
  behind_seconds: 8,
  behind_bytes: 2048,
  behind_transactions: 5,
  promotion: {
    health: 'look',
    sentence: 'Replay is paused.',
    lost_bytes: 0,
    replayed_first_bytes: 2048,
  },
})
const answer = (change: Partial<Schemas['ServersOfSystem']>): Schemas['ServersOfSystem'] => ({
  at: '2026-03-01T06:00:00Z',
  servers: [member({}), replica],
  primaries: 1,
  silent: [],
  slots: [],
  conflicts: [],
  ...change,
})
const plain = (text: string) => text.replace(/\s/g, ' ')
const PATH = '/on/passage-a/diagnose/replication'

describe('replication', () => {
  beforeEach(() => {
    server.answers = {
      'GET /api/v1/session': { name: 'mate', role: 'reader', groups: [], csrf_token: 'kelp' },
      'GET /api/v1/roster': roster(instance()),
      'GET /api/v1/instances/1/replication': answer({}),
    }
  })

  it('tells who follows whom, how far behind, and what a promotion would mean', async () => {
    const { wrapper } = await show(ReplicationPage, PATH)
    const [first, second] = wrapper
      .findAll('[data-test=replication] tbody tr')
      .map((row) => plain(row.text()))
    expect(first).toContain('primary')
    for (const part of ['passage-b', 'streaming, async', 'board', '8 s', '2 kB', 'Replay is paused.'])
      expect(second).toContain(part)
    expect(wrapper.text()).toContain('There is no replication slot')
    expect(wrapper.find('[data-test=conflicts]').exists()).toBe(false)
  })

  it('says so where two primaries write their own history and one does not answer', async () => {
    const other = member({ name: 'passage-c', instance_id: 3 })
    const silent = [{ label: 'passage-d', problem: 'It did not answer within 3 s.' }]
    server.answers['GET /api/v1/instances/1/replication'] = answer({
      servers: [member({}), other],
      primaries: 2,
      silent,
    })
    const { wrapper } = await show(ReplicationPage, PATH)
    expect(wrapper.get('[role=alert]').text()).toContain('passage-a, passage-c')
    expect(wrapper.text()).toContain('passage-d could not be asked: It did not answer within 3 s.')
  })

  it('shows what a slot keeps while nobody reads from it, and what replay has ended', async () => {
    const slot: Schemas['ReplicationSlot'] = {
      server: 'passage-a',
      name: 'lake',
      is_logical: true,
      database: 'passage',
      is_active: false,
      is_temporary: false,
      kept_bytes: 3 * 1024 ** 3,
      state: 'extended',
      safe_bytes: null,
      xmin_age: 70000,
      inactive_since: null,
    }
    server.answers['GET /api/v1/instances/1/replication'] = answer({
      slots: [slot],
      conflicts: [{ server: 'passage-b', cause: 'snapshot', count: 4, since: null }],
    })
    const { wrapper } = await show(ReplicationPage, PATH)
    const row = plain(wrapper.get('[data-test=slots] tbody tr').text())
    for (const part of ['lake', 'logical, database passage', 'not now', '3 GB', 'extended'])
      expect(row).toContain(part)
    expect(wrapper.get('[data-test=conflicts] tbody').text()).toContain('snapshot')
  })
})
