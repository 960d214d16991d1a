import { flushPromises } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'
import type { Schemas } from '../api/client'
import { instance, roster, server, show, stubServer } from '../testing/page'
import { parsePicked, writePicked } from './courseRows'

stubServer()
const { default: ResourcesPage } = await import('./ResourcesPage.vue')
const { default: BoardPage } = await import('./BoardPage.vue')

const course = (figure: string, change: Partial<Schemas['Course']> = {}): Schemas['Course'] => ({
  figure,
  title: figure.replaceAll('_', ' '),
  meaning: 'What it means.',
  object: '',
  unit: 'share',
  resource: 'reads',
  mean: 0.5,
  least: 0.25,
  most: 0.75,
  days: 14,
  values: [0.25, null, 0.75],
  low: [0.2, 0.2, 0.2],
  high: [0.6, 0.6, 0.6],
  further_objects: 0,
  ...change,
})
const courses = (of: Schemas['Course'][], cell_seconds = 60): Schemas['Courses'] => ({
  span: { from: '2026-03-01T06:00:00Z', to: '2026-03-01T06:03:00Z' },
  detail: 'fine',
  cell_seconds,
  starts: ['2026-03-01T06:00:00Z', '2026-03-01T06:01:00Z', '2026-03-01T06:02:00Z'],
  courses: of,
  resources: [
    { resource: 'reads', title: 'Reads' },
    { resource: 'storage', title: 'Storage' },
  ],
  cpus: 4,
})
const moved = (figure: string, reach: number) => ({
  figure,
  title: figure.replaceAll('_', ' '),
  object: '',
  unit: 'share',
  value: 0.75,
  low: 0.2,
  middle: 0.4,
  high: 0.6,
  reach,
  is_outside: Math.abs(reach) > 1,
})
const WINDOW = 'from=2026-03-01T06:00:00Z&to=2026-03-01T06:03:00Z'

beforeEach(() => {
  server.asked = []
  server.answers = {
    'GET /api/v1/session': { name: 'mate', role: 'reader', groups: [], csrf_token: 'k', preferences: {} },
    'GET /api/v1/roster': roster(instance(), instance({ label: 'gate-north' })),
    'GET /api/v1/figures': [{ figure: 'load', title: 'Busy sessions', meaning: '', unit: 'count' }],
    'GET /api/v1/instances/1/courses': courses([
      course('cache_hit_ratio'),
      course('storage_busy', { object: 'sda', resource: 'storage' }),
    ]),
    'GET /api/v1/instances/2/courses': courses([course('cache_hit_ratio')], 60),
    'GET /api/v1/instances/1/moved': {
      span: { from: '2026-03-01T06:00:00Z', to: '2026-03-01T06:10:00Z' },
      judged: 2,
      figures: [moved('temp_bytes', 3.2), moved('cache_hit_ratio', 0.5)],
      others: [{ label: 'gate-north', outside: 1, figures: [moved('load', -2)] }],
      others_judged: 1,
    },
  }
})

describe('resources', () => {
  it('are shown by what they tell of, each folded where that is asked for', async () => {
    const { wrapper, router } = await show(ResourcesPage, `/on/passage-a/diagnose/resources?${WINDOW}`)
    const labels = () => wrapper.findAll('.label').map((one) => one.text())
    expect(labels()).toEqual(['▾Reads', 'cache hit ratio', '▾Storage', 'storage busy sda'])
    await wrapper
      .findAll('button.fold')
      .find((one) => one.text().includes('Reads'))!
      .trigger('click')
    await flushPromises()
    expect(labels()).toEqual(['▸Reads', '▾Storage', 'storage busy sda'])
    expect(router.currentRoute.value.query.folded).toBe('reads')
  })

  it('tell what left its usual range, on other instances too', async () => {
    const { wrapper } = await show(ResourcesPage, `/on/passage-a/diagnose/resources?${WINDOW}`)
    const told = wrapper.get('[data-test=moved]')
    expect(told.findAll('tbody tr')).toHaveLength(1)
    expect(told.text()).toContain('3.20 above')
    expect(told.text()).toContain('gate-north')
    await told.get('.head button').trigger('click')
    expect(told.findAll('tbody tr')).toHaveLength(2)
  })

  it('are chosen for a board by their names', async () => {
    const { wrapper, router } = await show(ResourcesPage, `/on/passage-a/diagnose/resources?${WINDOW}`)
    await wrapper
      .findAll('button.choose')
      .find((one) => one.text() === 'storage busy sda')!
      .trigger('click')
    await flushPromises()
    expect(parsePicked(router.currentRoute.value.query.pick)).toEqual([
      { instance: 'passage-a', figure: 'storage_busy', object: 'sda' },
    ])
    expect(wrapper.text()).toContain('Open 1 figure as a board')
  })
})

describe('a board', () => {
  it('has its figures in the address, whatever their names hold', () => {
    const picked = [{ instance: 'quay: 7, north', figure: 'volume_free', object: '/data,a:b' }]
    expect(parsePicked(writePicked(picked))).toEqual(picked)
    expect(parsePicked('%E0%A4%A:load')).toEqual([{ instance: '%E0%A4%A', figure: 'load', object: '' }])
    expect(parsePicked(undefined)).toEqual([])
  })

  it('shows figures of several instances on one axis, and says of which there are none', async () => {
    const rows = writePicked([
      { instance: 'passage-a', figure: 'cache_hit_ratio', object: '' },
      { instance: 'gate-north', figure: 'cache_hit_ratio', object: '' },
      { instance: 'gate-north', figure: 'power', object: '' },
      { instance: 'gone', figure: 'load', object: '' },
    ])
    const { wrapper, router } = await show(
      BoardPage,
      `/on/passage-a/diagnose/board?${WINDOW}&rows=${encodeURIComponent(rows!)}`,
    )
    expect(wrapper.findAll('.label').map((one) => one.text())).toEqual([
      'passage-a: cache hit ratio',
      'gate-north: cache hit ratio',
      'gate-north: power, nothing was read',
      'gone: load, there is no such instance',
    ])
    await wrapper.findAll('button.choose')[3]!.trigger('click')
    await wrapper
      .findAll('button')
      .find((one) => one.text() === 'Remove')!
      .trigger('click')
    await flushPromises()
    expect(parsePicked(router.currentRoute.value.query.rows)).toHaveLength(3)
  })

  it('says how to begin where nothing stands on it', async () => {
    const { wrapper } = await show(BoardPage, `/on/passage-a/diagnose/board?${WINDOW}`)
    expect(wrapper.get('[data-test=board]').text()).toContain('Nothing stands on this board yet')
  })
})
