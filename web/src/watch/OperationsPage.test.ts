import { beforeEach, describe, expect, it } from 'vitest'
import type { Schemas } from '../api/client'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: OperationsPage } = await import('./OperationsPage.vue')

const operation = (change: Partial<Schemas['LongOperation']> = {}): Schemas['LongOperation'] => ({
  process: 7,
  started_at: '2026-03-01T05:00:00Z',
  kind: 'vacuum',
  is_automatic: true,
  table: 'public.vehicle_slot',
  database: 'passage',
  account: '',
  phase: 'scanning heap',
  done: 500,
  total: 2000,
  unit: 'pages',
  share: 0.25,
  seconds: 90,
  per_second: 10,
  left_seconds: 150,
  left_least: 136,
  left_most: 167,
  blocked_by: [],
  ...change,
})
const answer = (operations: Schemas['LongOperation'][]): Schemas['OperationsOnServer'] => ({
  at: '2026-03-01T06:00:00Z',
  operations,
  is_automatic: true,
  workers: 1,
  most_workers: 3,
  queue: [
    {
      table: 'public.gate_scan',
      size_bytes: 8192,
      due_for: 'dead_rows',
      is_due: true,
      reached: 1.5,
      counted: 150,
      due_at: 100,
      is_automatic: true,
    },
  ],
  due: 1,
  held_back_by: [{ by: 'slot lake', transactions: 12 }],
})

describe('long operations', () => {
  beforeEach(() => {
    server.answers = {
      'GET /api/v1/session': { name: 'mate', role: 'reader', groups: [], csrf_token: 'kelp' },
      'GET /api/v1/roster': roster(instance()),
      'GET /api/v1/instances/1/operations': answer([
        operation(),
        operation({
          process: 8,
          kind: 'create_index',
          is_automatic: false,
          per_second: null,
          left_seconds: null,
          left_least: null,
          left_most: null,
          blocked_by: [9],
        }),
        operation({ process: 9, kind: 'copy', total: null, share: null, left_seconds: null, unit: 'bytes' }),
      ]),
    }
  })

  it('are told with how far they are, how long they take yet, and what keeps them waiting', async () => {
    const { wrapper } = await show(OperationsPage, '/on/passage-a/watch/operations')
    const [vacuum, index, copy] = wrapper
      .findAll('article')
      .map((one) => one.text().replaceAll('\u00a0', ' '))
    expect(vacuum).toContain('autovacuum public.vehicle_slot')
    expect(vacuum).toContain('500 pages of 2 000 pages'.replace(' 000', '\u202f000'))
    expect(vacuum).toContain('this phase ends in: 2.27 to 2.78 min')
    expect(index).toContain('being measured')
    expect(index).toContain('waits behind process 9')
    expect(copy).toContain('the server does not tell its end')
  })

  it('come with what autovacuum takes next and what holds vacuum back', async () => {
    const { wrapper } = await show(OperationsPage, '/on/passage-a/watch/operations')
    expect(wrapper.get('[data-test=upkeep]').text()).toContain('1 of 3 workers busy · 1 table due')
    expect(wrapper.get('[data-test=upkeep] tbody tr').classes()).toContain('due')
    expect(wrapper.get('[data-test=held-back]').text()).toContain('slot lake')
  })

  it('say when there are none', async () => {
    server.answers['GET /api/v1/instances/1/operations'] = answer([])
    const { wrapper } = await show(OperationsPage, '/on/passage-a/watch/operations')
    expect(wrapper.get('[data-test=operations]').text()).toContain('goes on')
  })
})
