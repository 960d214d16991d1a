import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: InstancesPage } = await import('./InstancesPage.vue')

const session = (role: string) => ({ name: 'harbourmaster', role, csrf_token: 'kelp' })
beforeEach(() => (server.answers = { 'GET /api/v1/session': session('administrator') }))

/** The text of each row, without runs of white space. */
async function rows(instances: Record<string, unknown>[], columns = ''): Promise<string[]> {
  server.answers['GET /api/v1/roster'] = roster(...instances)
  const { wrapper } = await show(InstancesPage, `/watch/instances?instances.columns=${columns}`)
  return wrapper.findAll('tbody tr').map((row) => row.text().replaceAll(/\s+/g, ' '))
}

describe('the list of instances', () => {
  it('keeps the order of the server and says why each is where it is', async () => {
    const [act, failing, quiet] = await rows([
      instance({
        label: 'gates',
        health: 'act',
        alarms: 3,
        lost_seconds_per_second: 0.4,
        worst: {
          alarm_id: '7',
          asks: 'act',
          text: 'crew holds up 37 sessions.',
          began_at: new Date(Date.now() - 840_000).toISOString(),
        },
      }),
      instance({
        label: 'crew',
        health: 'no_data',
        collection: 'failing',
        problem: { message: 'The port is closed.', remedy: 'Start the server.' },
      }),
      instance(),
    ])
    expect(act).toMatch(/crew holds up 37 sessions\.14(\.0)? min ago/)
    expect(act).toContain('0.400 s/s')
    expect(failing).toContain('The port is closed.')
    expect(quiet).toContain('nothing unusual')
  })

  it('unfolds the other alarms of an instance', async () => {
    const worst = {
      alarm_id: '7',
      asks: 'act',
      text: 'crew holds up 37 sessions.',
      began_at: '2026-03-01T06:00:00Z',
    }
    server.answers['GET /api/v1/roster'] = roster(
      instance({ label: 'gates', health: 'act', alarms: 2, worst }),
    )
    const other = { ...worst, alarm_id: '8', asks: 'look', verdict: 'look', text: 'The volume /data fills.' }
    server.answers['GET /api/v1/alarms'] = { matching: 2, alarms: [worst, other] }
    const { wrapper } = await show(InstancesPage, '/watch/instances')
    await wrapper.get('button.fold').trigger('click')
    await flushPromises()
    const told = wrapper.get('[data-test="other-alarms"]').text()
    expect(told).toContain('The volume /data fills.')
    expect(told).not.toContain('crew holds up')
  })

  it('names the quiet ones of many below those that need somebody, unless somebody looks for one', async () => {
    const many = Array.from({ length: 60 }, (_, i) =>
      instance({ instance_id: i + 1, label: `skerry-${i}`, health: i < 2 ? 'act' : 'quiet' }),
    )
    expect(await rows(many)).toHaveLength(2)
    const { wrapper } = await show(InstancesPage, '/watch/instances')
    const quiet = wrapper.get('[data-test="quiet"]')
    expect(quiet.text()).toContain('58 instances')
    expect(quiet.findAll('li')).toHaveLength(58)
    const found = await show(InstancesPage, '/watch/instances?instances.is.instance=skerry-5')
    expect(found.wrapper.get('[data-test="quiet"]').attributes('style')).toContain('display: none')
    await quiet.get('button').trigger('click')
    expect(wrapper.find('[data-test="quiet"]').exists()).toBe(false)
    await vi.waitFor(() => {
      expect(wrapper.findAll('tbody tr')).toHaveLength(50)
    })
    localStorage.clear()
  })

  it('tells what watching costs, and when it is done less often', async () => {
    const [usual, stretched, unread] = await rows(
      [instance(), instance({ stretch: 3 }), instance({ cost_share: null, cost_bytes: null, stretch: null })],
      'label,cost',
    )
    expect(usual).toMatch(/0\.200 % 2 kB\/s/)
    expect(usual).not.toContain('intervals')
    expect(stretched).toContain('intervals × 3')
    expect(unread).not.toContain('%')
  })

  it('tells made-up servers and bundles from those with a connection', async () => {
    const [simulated, bundle] = await rows(
      [instance({ label: 'tides', engine: 'simulated' }), instance({ label: 'old', engine: 'bundle' })],
      'label,why,server',
    )
    expect(simulated).toContain('simulated')
    expect(bundle).toContain('imported from bundles')
    expect([simulated, bundle].some((row) => row!.includes('Connection'))).toBe(false)
  })

  it('names the figures that a server does not give', async () => {
    const limits = [
      { figures: 'log', reason: 'The server writes no structured log.', remedy: 'ALTER SYSTEM …' },
    ]
    expect((await rows([instance({ limits })]))[0]).toContain('Without log: see Collection')
  })

  it('lets administrators change connections, and nobody else', async () => {
    server.answers['GET /api/v1/roster'] = roster(instance({ label: 'gates' }))
    const acts = async () => {
      const { wrapper } = await show(InstancesPage, '/watch/instances')
      await wrapper.get('[aria-label="Actions for gates"]').trigger('click')
      return wrapper.get('tbody tr').text()
    }
    expect(await acts()).toContain('Connection')
    server.answers['GET /api/v1/session'] = session('reader')
    expect(await acts()).not.toContain('Connection')
    const { wrapper } = await show(InstancesPage, '/watch/instances')
    expect(wrapper.text()).not.toContain('Add instance')
  })

  it('says what to do where there is none yet', async () => {
    server.answers['GET /api/v1/roster'] = roster()
    const { wrapper } = await show(InstancesPage, '/watch/instances')
    expect(wrapper.text()).toContain('Add the first one: an account with pg_monitor is enough.')
  })

  it('has what is pinned first, and narrows to a group whose worst it tells', async () => {
    const preferences = { pinned: [3], folded_groups: [], order: 'urgency', boards: [] }
    server.answers['GET /api/v1/session'] = { ...session('reader'), preferences }
    server.answers['GET /api/v1/roster'] = roster(
      instance({ instance_id: 1, label: 'gate-south', group: 'gates', health: 'act' }),
      instance({ instance_id: 2, label: 'freight', group: 'quay', health: 'look' }),
      instance({ instance_id: 3, label: 'tides', group: 'quay' }),
    )
    const { wrapper } = await show(InstancesPage, '/watch/instances')
    const labels = () => wrapper.findAll('a.label').map((link) => link.text())
    expect(labels()).toEqual(['tides', 'gate-south', 'freight'])
    const [gates, quay] = wrapper.findAll('.groups button')
    expect([gates!.text(), quay!.text()]).toEqual(['gates  act1 of 1', 'quay  look1 of 2'])
    await quay!.trigger('click')
    await flushPromises()
    expect(labels()).toEqual(['tides', 'freight'])
    await wrapper.get('[aria-label="Actions for tides"]').trigger('click')
    expect(wrapper.get('.acts').text()).toContain('Unpin')
  })
})
