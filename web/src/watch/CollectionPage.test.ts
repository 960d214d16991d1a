import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import { instance, roster, server, show, stubServer } from '../testing/page'

stubServer()
const { default: CollectionPage } = await import('./CollectionPage.vue')
const told = (figures: string, availability: string, change: Record<string, unknown> = {}) => ({
  figures,
  availability,
  tells: `all about ${figures}`,
  obstacles: [],
  last_read_at: '2026-03-01T06:00:00Z',
  interval_seconds: 60,
  read: 1440,
  refused: 0,
  missed: 0,
  dropped: 0,
  mean_read_ms: 3,
  mean_bytes: 2048,
  cost_share: 0.00005,
  ...change,
})
const obstacle = { reason: 'Only superusers may read it.', remedy: 'CREATE FUNCTION …' }

describe('what an instance tells', () => {
  beforeEach(() => {
    server.asked = []
    server.answers = {
      'GET /api/v1/session': { name: 'mate', role: 'tuner', groups: [], csrf_token: 'kelp' },
      'GET /api/v1/roster': roster(instance()),
      'GET /api/v1/instances/1/figures': [
        told('statements', 'collected', { missed: 3 }),
        told('host', 'absent', { obstacles: [obstacle], last_read_at: null, read: 0, mean_read_ms: null }),
      ],
    }
  })

  it('puts first what is missing, with the reason and what would give it', async () => {
    const { wrapper } = await show(CollectionPage, '/on/passage-a/watch/collection')
    const [first, second] = wrapper.findAll('[data-test=availability] tbody tr').map((row) => row.text())
    expect(first).toMatch(/^host\s*absent.*Only superusers may read it\.\s*CREATE FUNCTION.*never/)
    expect(second).toContain('3 missed')
    expect(wrapper.text()).toContain('1 absent, 1 collected')
  })

  it('reads everything when asked, which readers cannot', async () => {
    server.answers['POST /api/v1/instances/1/snapshot'] = {}
    const { wrapper } = await show(CollectionPage, '/on/passage-a/watch/collection')
    await wrapper
      .findAll('button')
      .find((one) => one.text() === 'Collect now')!
      .trigger('click')
    await flushPromises()
    expect(server.asked.some((url) => url.pathname.endsWith('/snapshot'))).toBe(true)
    expect(wrapper.text()).toContain('this takes a few seconds')
    server.answers['GET /api/v1/session'] = { name: 'mate', role: 'reader', groups: [], csrf_token: 'kelp' }
    const again = await show(CollectionPage, '/on/passage-a/watch/collection')
    expect(again.wrapper.text()).not.toContain('Collect now')
  })
})
