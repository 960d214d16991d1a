import { beforeEach, describe, expect, it } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: AlarmPage } = await import('./AlarmPage.vue')
const { default: AlarmsPage } = await import('./AlarmsPage.vue')

const session = (role: string) => ({ name: 'mate', role, csrf_token: 'kelp' })
/** An alarm as the server tells it, with what a test wants to be different. */
const alarm = (change: Record<string, unknown> = {}) => ({
  alarm_id: '7',
  instance_id: 1,
  instance: 'gate-south',
  trouble: 'hold_up',
  title: 'Hold-up',
  object: 'supervisor desk',
  verdict: 'act',
  asks: 'act',
  text: 'supervisor (desk, process 4711) holds up 37 sessions.',
  began_at: '2026-03-01T06:00:00Z',
  opened_at: '2026-03-01T06:01:00Z',
  seen_at: '2026-03-01T06:10:00Z',
  closed_at: null,
  lost_seconds_per_second: 0,
  acknowledged_by: null,
  assigned_to: null,
  snoozed_until: null,
  silenced_by: null,
  consequences: ['A transaction in gates has been open for 14 min: it keeps its locks.'],
  facts: [{ what: 'Locks held and waited for just now', value: '48 and 37' }],
  step: 'Ask supervisor to end the transaction of process 4711, or end the session.',
  statement: 'SELECT pg_terminate_backend(4711)',
  page: 'sessions',
  page_id: null,
  action: null,
  story: [{ at: '2026-03-01T06:01:00Z', what: 'opened', by: null, text: 'supervisor holds up 2 sessions.' }],
  ...change,
})
beforeEach(() => {
  server.answers = {
    'GET /api/v1/session': session('tuner'),
    'GET /api/v1/roster': roster(instance({ label: 'gate-south' })),
  }
})

describe('an alarm', () => {
  it('leads to the time around it: up to now while it is young, else as much as one looks at', async () => {
    const page = async (change: Record<string, unknown>) => {
      server.answers['GET /api/v1/alarms/7'] = { ...alarm(), ...change }
      const { wrapper } = await show(AlarmPage, '/watch/alarms/7')
      return wrapper.find('[data-test="next-page"]').attributes('href')
    }
    const young = new Date(Date.now() - 600_000).toISOString()
    expect(await page({ page: 'blocking', began_at: young })).toMatch(/diagnose\/blocking\?last=4[01]m$/)
    const closed = { page: 'resources', closed_at: '2026-03-01T06:20:00Z' }
    expect(await page(closed)).toContain(
      'resources?from=2026-03-01T05:30:00.000Z&to=2026-03-01T06:20:00.000Z',
    )
  })

  it('says what is wrong, what to do with the page that shows it, what comes from it, and its story', async () => {
    server.answers['GET /api/v1/alarms/7'] = alarm()
    const { wrapper } = await show(AlarmPage, '/watch/alarms/7')
    expect(wrapper.text()).toContain('holds up 37 sessions.')
    expect(wrapper.find('[data-test="next-page"]').attributes('href')).toBe('/on/gate-south/watch/sessions')
    expect(wrapper.find('[data-test="consequences"]').text()).toContain('open for 14 min')
    expect(wrapper.text()).toContain('48 and 37')
    expect(wrapper.find('[data-test="story"]').text()).toContain('opened')
  })

  it('draws the figure that shows it, with its threshold and what is usual', async () => {
    const cell = (minute: number, value: number, is_raised: boolean) => ({
      at: `2026-03-01T06:${minute}:00Z`,
      value,
      is_raised,
      low: 0,
      high: 2,
    })
    server.answers['GET /api/v1/alarms/7'] = alarm()
    server.answers['GET /api/v1/alarms/7/course'] = [
      {
        figure: 'wait_lock',
        title: 'Sessions waiting for lock',
        object: '',
        unit: 'count',
        span: { from: '2026-03-01T06:00:00Z', to: '2026-03-01T06:30:00Z' },
        days: 21,
        threshold: 10,
        cells: [cell(10, 1, false), cell(20, 37, true)],
      },
    ]
    const { wrapper } = await show(AlarmPage, '/watch/alarms/7')
    const course = wrapper.get('[data-test="course"]')
    expect(course.text()).toContain('Sessions waiting for lock: 1 to 37; dashed: the threshold, 10')
    expect(course.text()).toContain('learnt from 21 days')
    expect(course.get('svg').attributes('aria-label')).toContain('1 to 37')
  })

  it('tells what else changed then, with links to the statements of its instance', async () => {
    const side = { typical: 3, quarter: 2, three_quarters: 4 }
    const change = {
      change_id: '9',
      measured: 'time_per_call',
      object: '',
      onset: '2026-03-01T06:00:00Z',
      until: null,
      ratio: { value: 80, low: 70, high: 90 },
      before: side,
      after: { ...side, typical: 240 },
      cost: 1.5,
      story: [],
    }
    server.answers['GET /api/v1/alarms/7'] = alarm()
    server.answers['GET /api/v1/instances/1/changes'] = [{ family_id: '12', text: 'select 1', change }]
    const { wrapper } = await show(AlarmPage, '/watch/alarms/7')
    const link = wrapper.get('[data-test="moved"] a')
    expect(link.attributes('href')).toBe('/on/gate-south/diagnose/statements/12')
    expect(server.asked.at(-1)!.searchParams.get('near')).toBe('2026-03-01T06:00:00Z')
  })

  it('is acknowledged by whoever may, and nobody else', async () => {
    server.answers['GET /api/v1/alarms/7'] = alarm()
    server.answers['PUT /api/v1/alarms/7/acknowledgement'] = alarm({ acknowledged_by: 'mate' })
    const { wrapper } = await show(AlarmPage, '/watch/alarms/7')
    const button = wrapper.findAll('button').find((one) => one.text() === 'Acknowledge')!
    await button.trigger('click')
    expect(server.asked.some((url) => url.pathname.endsWith('/acknowledgement'))).toBe(true)
    server.answers['GET /api/v1/session'] = session('reader')
    const { wrapper: read } = await show(AlarmPage, '/watch/alarms/7')
    expect(read.text()).not.toContain('Acknowledge')
  })

  it('can only be commented once it is closed', async () => {
    server.answers['GET /api/v1/alarms/7'] = alarm({ closed_at: '2026-03-01T06:20:00Z', asks: null })
    const { wrapper } = await show(AlarmPage, '/watch/alarms/7')
    const buttons = wrapper.findAll('button').map((one) => one.text())
    expect(buttons).toContain('Add')
    expect(buttons).not.toContain('Snooze')
  })
})

describe('the list of alarms', () => {
  const open = (alarms: unknown[]) => ({ matching: alarms.length, alarms })

  it('tells each with what is done about it, in the order of the server', async () => {
    server.answers['GET /api/v1/alarms'] = open([
      alarm(),
      alarm({
        alarm_id: '8',
        asks: 'look',
        text: 'The volume /data is full in 19 days.',
        assigned_to: 'mate',
      }),
    ])
    const { wrapper } = await show(AlarmsPage, '/watch/alarms')
    const rows = wrapper.findAll('tbody tr').map((row) => row.text())
    expect(rows[0]).toContain('act')
    expect(rows[0]).toContain('Also: A transaction in gates')
    expect(rows[1]).toContain('assigned to mate')
  })

  it('says that nothing is wrong, and narrows to one instance', async () => {
    server.answers['GET /api/v1/alarms'] = open([])
    const { wrapper } = await show(AlarmsPage, '/watch/alarms?of=gate-south')
    expect(wrapper.text()).toContain('No alarm is open')
    expect(wrapper.find('.chip').text()).toContain('gate-south')
    expect(server.asked.at(-1)!.searchParams.get('instance_id')).toBe('1')
  })

  it('pages through those that were closed', async () => {
    server.answers['GET /api/v1/alarms'] = { matching: 120, alarms: [alarm({ asks: null })] }
    const { wrapper } = await show(AlarmsPage, '/watch/alarms?state=closed&alarms.page=2')
    const asked = server.asked.at(-1)!.searchParams
    expect([asked.get('page'), asked.get('page_size'), asked.get('state')]).toEqual(['2', '50', 'closed'])
    expect(wrapper.text()).toContain('120')
  })
})
