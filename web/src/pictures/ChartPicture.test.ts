import { flushPromises, mount } from '@vue/test-utils'
import { afterEach, describe, expect, it } from 'vitest'
import ChartPicture, { type ChartSeries } from './ChartPicture.vue'
import { cursor } from './cursor'
import StripStack from './StripStack.vue'

const start = new Date(2026, 2, 1, 12, 0).getTime()
const MINUTE = 60_000
const curve = (kind: ChartSeries['kind']): ChartSeries => ({
  name: 'busy sessions',
  kind,
  points: [
    [start, 1],
    [start + MINUTE, null],
    [start + 2 * MINUTE, 4],
  ],
})
const chart = (isTime: boolean, series = [curve('line')]) =>
  mount(ChartPicture, {
    props: {
      label: 'Load',
      series,
      from: isTime ? start : 0,
      to: isTime ? start + 3 * MINUTE : 10,
      isTime,
      write: (value: number) => `${value} sessions`,
      writeAcross: (value: number) => `${value} GiB`,
    },
  })
afterEach(() => (cursor.value = null))

describe('a chart', () => {
  it('is read by the arrow keys, from end to end, and says what is not known', async () => {
    const wrapper = chart(true)
    const slider = wrapper.get('[role=slider]')
    const press = async (key: string) => {
      await slider.trigger('keydown', { key })
      return slider.attributes('aria-valuetext')
    }
    expect(await press('ArrowRight')).toContain('busy sessions 1 sessions')
    expect(await press('ArrowRight')).toContain('busy sessions not known')
    expect(await press('End')).toContain('busy sessions 4 sessions')
    expect(await press('ArrowRight')).toContain('busy sessions 4 sessions')
    expect(await press('Home')).toContain('12:00')
    expect(await press('Escape')).toContain('arrow key')
  })

  it('reads the moment that a strip is read at, and the other way round', async () => {
    const wrapper = chart(true)
    const strips = mount(StripStack, {
      props: {
        starts: [0, 1, 2].map((minute) => new Date(start + minute * MINUTE)),
        cellSeconds: 60,
        rows: [
          {
            key: 'k',
            label: 'calls',
            values: [7, 8, 9],
            ink: '',
            figures: [],
            full: 9,
            tall: true,
            write: String,
          },
        ],
        figureHeads: [],
        chosen: null,
        markers: [],
        readOnly: true,
      },
    })
    await strips.get('[role=slider]').trigger('keydown', { key: 'ArrowLeft' })
    expect(strips.text()).toContain('calls 9')
    expect(wrapper.get('[role=slider]').attributes('aria-valuetext')).toContain('busy sessions 4 sessions')
    await wrapper.get('[role=slider]').trigger('keydown', { key: 'Home' })
    expect(strips.text()).toContain('calls 7')
  })

  it('over a number has a cursor of its own', async () => {
    const bars: ChartSeries = {
      name: 'saved',
      kind: 'bar',
      points: [
        [1, 3],
        [8, 5],
      ],
    }
    const wrapper = chart(false, [bars])
    await wrapper.get('[role=slider]').trigger('keydown', { key: 'End' })
    expect(wrapper.get('figcaption').text()).toBe('8 GiB: saved 5 sessions')
    expect(cursor.value).toBeNull()
  })

  it('gives its reading back when it goes', async () => {
    const wrapper = chart(true)
    await wrapper.get('[role=slider]').trigger('keydown', { key: 'Home' })
    expect(cursor.value).toBe(start)
    wrapper.unmount()
    await flushPromises()
    expect(cursor.value).toBeNull()
  })
})
