import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import StripStack, { type StripRow } from './StripStack.vue'

const starts = [0, 1, 2, 3].map((minute) => new Date(2026, 2, 1, 12, minute))
const row = (change: Partial<StripRow> = {}): StripRow => ({
  key: 'total',
  label: 'busy sessions',
  values: [1, null, 0, 4],
  ink: 'url(#ink-plum)',
  figures: ['1.25', '4'],
  full: 4,
  write: String,
  ...change,
})
const stack = (chosen: [number, number] | null) =>
  mount(StripStack, {
    props: { starts, cellSeconds: 60, rows: [row()], figureHeads: ['mean', 'peak'], chosen, markers: [] },
  })
/** What a key chooses, from what is chosen. */
async function press(chosen: [number, number] | null, key: string, shiftKey = false) {
  const wrapper = stack(chosen)
  await wrapper.get('[role=slider]').trigger('keydown', { key, shiftKey })
  return wrapper.emitted('choose')?.[0]?.[0]
}

describe('choosing columns of time by keyboard', () => {
  it('begins with the newest', async () => {
    expect(await press(null, 'ArrowLeft')).toEqual([3, 3])
    expect(await press(null, 'ArrowRight')).toEqual([3, 3])
  })
  it('moves, and stops at the ends', async () => {
    expect(await press([3, 3], 'ArrowLeft')).toEqual([2, 2])
    expect(await press([0, 0], 'ArrowLeft')).toEqual([0, 0])
    expect(await press([3, 3], 'ArrowRight')).toEqual([3, 3])
  })
  it('widens with shift, and never turns round', async () => {
    expect(await press([1, 1], 'ArrowRight', true)).toEqual([1, 2])
    expect(await press([1, 3], 'ArrowRight', true)).toEqual([1, 3])
    expect(await press([1, 1], 'ArrowLeft', true)).toEqual([1, 1])
  })
  it('ends with escape; other keys do nothing', async () => {
    expect(await press([1, 2], 'Escape')).toBeNull()
    expect(await press([1, 2], 'a')).toBeUndefined()
  })
})

describe('rows', () => {
  it('carry their exact figures and say what is chosen', () => {
    const wrapper = stack([1, 2])
    expect(wrapper.text()).toContain('busy sessions')
    expect(wrapper.text()).toContain('1.25')
    expect(wrapper.get('[role=slider]').attributes('aria-valuetext')).toMatch(/12:01.*12:03/)
    expect(stack(null).get('[role=slider]').attributes('aria-valuetext')).toBe('none chosen')
  })
})
