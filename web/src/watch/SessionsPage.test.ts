import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: SessionsPage } = await import('./SessionsPage.vue')
const session = (process: number, change: Record<string, unknown> = {}) => ({
  process,
  started_at: '2026-03-01T05:00:00.123456Z',
  wait_kind: 'lock',
  event: 'Lock:tuple',
  account: 'skerry_gate',
  program: 'gate scanner',
  client: '10.1.0.7',
  database: 'passage',
  family_id: '7',
  statement: 'update crossing',
  statement_started_at: null,
  transaction_started_at: null,
  blocked_by: [3],
  blocks: 0,
  awaits: 'ExclusiveLock tuple public.crossing',
  line: 1,
  depth: 1,
  transaction_seconds: 30,
  ...change,
})
const rows = (wrapper: Awaited<ReturnType<typeof show>>['wrapper']) =>
  wrapper.findAll('[data-test=sessions] tbody tr').map((row) => row.text())

describe('sessions', () => {
  beforeEach(() => {
    server.asked = []
    server.answers = {
      'GET /api/v1/session': { name: 'mate', role: 'reader', groups: [], csrf_token: 'kelp' },
      'GET /api/v1/roster': roster(instance()),
      'GET /api/v1/instances/1/sessions': {
        looked_at: '2026-03-01T06:00:00Z',
        unasked: 0,
        sessions: [
          session(3, { wait_kind: null, blocked_by: [], blocks: 2, program: 'gate desk', line: 0, depth: 0 }),
          session(9, { line: 2 }),
          session(4),
          session(5, { wait_kind: 'running', blocked_by: [], line: null, depth: 0 }),
        ],
        held_back_by: [{ by: 'session of crew in passage', transactions: 5400 }],
      },
    }
  })

  it('are shown with who blocks whom, and can only be looked at by readers', async () => {
    const { wrapper } = await show(SessionsPage, '/on/passage-a/watch/sessions')
    expect(rows(wrapper)[0]).toContain('idle in transaction')
    expect(rows(wrapper)[1]).toContain('behind 3')
    expect(wrapper.findAll('.acts')).toHaveLength(0)
    const head = wrapper.findAll('button').find((one) => one.text().startsWith('process'))!
    await head.trigger('click')
    await flushPromises()
    expect(rows(wrapper).map((row) => row[0])).toEqual(['3', '4', '5', '9'])
  })

  it('are ended by administrators, with what is lost, what is sent, and why', async () => {
    server.answers['GET /api/v1/session'] = {
      name: 'pilot',
      role: 'administrator',
      groups: [],
      csrf_token: 'kelp',
    }
    server.answers['POST /api/v1/instances/1/actions/preview'] = {
      title: 'End a session',
      told: 'The session ends.',
      undo: null,
      may_take_long: false,
      statement: 'SELECT pg_terminate_backend(pid)',
      waits: true,
    }
    server.answers['POST /api/v1/instances/1/actions'] = { state: 'proposed', outcome: null }
    const { wrapper } = await show(SessionsPage, '/on/passage-a/watch/sessions')
    expect(rows(wrapper)[0]).not.toContain('Cancel')
    await wrapper
      .findAll('button')
      .find((one) => one.text() === 'End')!
      .trigger('click')
    await flushPromises()
    const dialog = () => document.querySelector('.ant-modal')?.textContent ?? ''
    expect(dialog()).toContain(
      'The session ends. It cannot be undone.2 sessions that wait behind it can go on.',
    )
    expect(dialog()).toContain('SELECT pg_terminate_backend(pid)')
    document.querySelector<HTMLFormElement>('.ant-modal form')!.dispatchEvent(new Event('submit'))
    await flushPromises()
    expect(dialog()).toContain('Another administrator approves or refuses it')
  })

  it('in line show who waits or holds only, each behind the one that it waits for', async () => {
    const { wrapper, router } = await show(SessionsPage, '/on/passage-a/watch/sessions?lines=yes')
    expect(rows(wrapper).map((row) => row[0])).toEqual(['3', '4', '9'])
    expect(wrapper.get('[data-test=held-back]').text()).toContain('session of crew in passage')
    await router.push('/on/passage-a/watch/sessions?by=program')
    await flushPromises()
    const [scanners, desk] = wrapper.findAll('[data-test=session-groups] button')
    expect(scanners!.text()).toBe('gate scanner 3 2 waiting')
    await desk!.trigger('click')
    await flushPromises()
    expect(rows(wrapper)).toHaveLength(1)
  })

  it('tell what each holds back of vacuum, and the processes of the server itself', async () => {
    const started = session(4).started_at
    server.answers['GET /api/v1/instances/1/processes'] = {
      at: '2026-03-01T06:00:00Z',
      snapshots: [{ process: 4, started_at: started, transactions: 5400 }],
      background: [
        {
          process: 11,
          seconds: 3600,
          kind: 'checkpointer',
          is_idle: true,
          event: 'Activity:CheckpointerMain',
          database: '',
          text: '',
        },
      ],
      host: {
        server_cores: 1.32,
        other_cores: 0.25,
        of_server: [
          { process: 4, name: 'postgres', cores: 0.87, memory_bytes: 1 << 20 },
          { process: 11, name: 'postgres', cores: 0.45, memory_bytes: 1 << 20 },
        ],
        others: [{ process: 77, name: 'stowage-copy', cores: 0.25, memory_bytes: 3 << 20 }],
        others_count: 41,
      },
    }
    const { wrapper } = await show(
      SessionsPage,
      '/on/passage-a/watch/sessions?sessions.columns=process,holds_back,cores',
    )
    const of4 = rows(wrapper).find((row) => row.startsWith('4'))
    expect(of4?.replace(/\s/g, ' ')).toContain('5 400')
    expect(wrapper.get('[data-test=processes] tbody').text()).toContain('checkpointerwaits for work0.45')
    expect(of4).toContain('0.87')
    const host = wrapper.get('[data-test=host-processes]').text()
    expect(host).toContain('1.32 of the host')
    expect(host).toContain('the 1 busiest of 41')
    expect(host.replace(/\s/g, ' ')).toContain('77stowage-copy0.253 MB')
  })

  it('say where the processes of the host are not seen, and where the server did not tell', async () => {
    server.answers['GET /api/v1/instances/1/processes'] = {
      at: '2026-03-01T06:00:00Z',
      snapshots: [],
      background: [],
      host: null,
    }
    const unseen = await show(SessionsPage, '/on/passage-a/watch/sessions')
    expect(unseen.wrapper.get('[data-test=no-host]').text()).toContain('Collection says what would show it')
    delete server.answers['GET /api/v1/instances/1/processes']
    const failed = await show(SessionsPage, '/on/passage-a/watch/sessions')
    expect(failed.wrapper.text()).toContain('The server did not tell its processes')
    expect(rows(failed.wrapper)).toHaveLength(4)
  })

  it('of a past moment are asked for by it, and cannot be ended', async () => {
    server.answers['GET /api/v1/session'] = {
      name: 'pilot',
      role: 'administrator',
      groups: [],
      csrf_token: 'k',
    }
    const { wrapper } = await show(
      SessionsPage,
      '/on/passage-a/watch/sessions?at=2026-03-01T05:30:00.720598Z',
    )
    expect(server.asked.some((url) => url.searchParams.get('at') === '2026-03-01T05:30:00.720598Z')).toBe(
      true,
    )
    expect(wrapper.findAll('.acts')).toHaveLength(0)
  })

  it('that match are ended one after the other, with what came of each', async () => {
    server.answers['GET /api/v1/session'] = {
      name: 'pilot',
      role: 'administrator',
      groups: [],
      csrf_token: 'k',
    }
    server.answers['POST /api/v1/instances/1/actions'] = { state: 'done', outcome: 'The server did it.' }
    const { wrapper } = await show(SessionsPage, '/on/passage-a/watch/sessions?sessions.is.program=scanner')
    await wrapper
      .findAll('button')
      .find((one) => one.text() === 'End 3 sessions …')!
      .trigger('click')
    await flushPromises()
    const dialog = () => [...document.querySelectorAll('.ant-modal')].at(-1)!
    expect(dialog().querySelectorAll('[data-test=several] li')).toHaveLength(3)
    const form = dialog().querySelector<HTMLFormElement>('form')!
    form.dispatchEvent(new Event('submit'))
    await flushPromises()
    expect(dialog().textContent).toContain('Say why')
    const reason = dialog().querySelector('textarea')!
    reason.value = 'the gate is stuck'
    reason.dispatchEvent(new Event('input'))
    await flushPromises()
    form.dispatchEvent(new Event('submit'))
    await flushPromises()
    expect(dialog().textContent).toContain('3 of 3 asked for.')
    expect(server.asked.filter(({ pathname }) => pathname === '/api/v1/instances/1/actions')).toHaveLength(3)
  })
})
