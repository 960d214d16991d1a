<script lang="ts">
/** One row of cells on the common time axis. */
export interface StripRow {
  key: string
  label: string
  /** The plain word, shown on hover. */
  hint?: string
  /** One value for each cell; null where nothing is known. */
  values: (number | null)[]
  ink: string
  /** Position of the wait kind whose swatch stands before the label. */
  kind?: number
  /** Amounts by wait kind within each cell, in their fixed order; drawn in place of the one ink. */
  kinds?: (readonly number[] | null)[]
  /** What is usual in each cell, drawn faintly behind it. */
  usual?: readonly { low: number; high: number }[]
  /** A limit, drawn dashed across where it lies within the strip. */
  limit?: number
  /** Figures at the row's end. */
  figures: string[]
  /** What the full height of a cell stands for. */
  full: number
  tall?: boolean
  /** What its label does when it is pressed: it opens or closes a group, chooses the row, or shows more. */
  press?: 'fold' | 'choose' | 'more'
  /** Whether the group is open, or the row chosen. */
  isOn?: boolean
  /** Whether its label is a text of code. */
  mono?: boolean
  write: (value: number) => string
}
</script>

<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, onBeforeUnmount, ref } from 'vue'
import { between, clock } from '../format'
import { ticks } from './axis'
import { usualPath, within } from './usual'
import { cursor } from './cursor'
import { kindInk } from './kinds'
import KindSwatch from './KindSwatch.vue'

/**
 * Rows of cells, ink by amount, on one time axis, with exact figures at each row's end. A column of
 * time, or several, can be chosen with mouse or keyboard.
 */
const props = defineProps<{
  starts: Date[]
  cellSeconds: number
  rows: StripRow[]
  figureHeads: string[]
  /** First and last chosen cell. */
  chosen: [number, number] | null
  markers: { at: Date; text: string }[]
  /** Nothing is narrowed by a column: they can only be read. */
  readOnly?: boolean
  /** Room for labels, in pixels. */
  labelWidth?: number
  /** Window and source of the figures, said where one is pointed at. */
  figuresOf?: string
}>()
const emit = defineEmits<{
  choose: [cells: [number, number] | null]
  press: [key: string, besides: boolean]
}>()

/** Room of each column of figures: that of its longest. */
const endWidths = computed(() =>
  props.figureHeads.map((head, i) => {
    const lengths = props.rows.filter((row) => row.press !== 'fold').map((row) => row.figures[i]?.length ?? 0)
    return `max(58px, ${Math.max(head.length, ...lengths)}ch)`
  }),
)

/** Room that the label of a tick needs, in pixels. */
const LABEL = 56

const field = ref<HTMLElement | null>(null)
const { width } = useElementSize(field)
/** The cell that is read: the one that holds the moment read on any picture of the page. */
const hovered = computed(() => {
  const first = props.starts[0]
  if (cursor.value === null || !first) return null
  const cell = Math.floor((cursor.value - first.getTime()) / (props.cellSeconds * 1000))
  return cell >= 0 && cell < props.starts.length ? cell : null
})
function read(cell: number | null): void {
  const start = cell === null ? undefined : props.starts[cell]
  cursor.value = start ? start.getTime() + props.cellSeconds * 500 : null
}
onBeforeUnmount(() => read(null))
const dragFrom = ref<number | null>(null)

const cellWidth = computed(() => width.value / Math.max(props.starts.length, 1))
const shown = computed(() => props.rows.map((row) => ({ row, height: heightOf(row) })))

function heightOf(row: StripRow): number {
  if (row.tall) return 64
  if (row.press === 'fold') return 30
  if (row.press) return 25
  return row.values.some((value) => (value ?? 0) > 0) ? 27 : 15
}
function inkHeight(row: StripRow, value: number, height: number): number {
  return value > 0 ? Math.max(1.5, Math.min(1, value / (row.full || 1)) * (height - 3)) : 0
}
/** The inks of a cell, from the ground up. */
function inks(row: StripRow, cell: number, value: number, height: number) {
  const kinds = row.kinds?.[cell]
  const whole = inkHeight(row, value, height)
  if (!kinds || value <= 0) return [{ y: height - whole, height: whole, fill: row.ink }]
  let y = height
  return kinds.flatMap((amount, kind) => {
    const part = (amount / value) * whole
    y -= part
    return amount > 0 ? [{ y, height: part, fill: kindInk(kind) }] : []
  })
}
/** What is usual, drawn as high as the ink of the same value. */
function usualBand(row: StripRow, height: number): string {
  const up = (value: number) => within(height - 3, row.full)(value) + 3
  const cells = (row.usual ?? []).slice(0, props.starts.length)
  return usualPath(
    cells.map((cell, i) => ({ ...cell, x: i * cellWidth.value, width: cellWidth.value })),
    up,
  )
}
/** How far below the top of a strip its limit lies; nothing where it is beyond. */
function limitAt(row: StripRow, height: number): number | null {
  if (row.limit === undefined || row.limit > row.full) return null
  return within(height - 3, row.full)(row.limit) + 3
}
function cellAt(event: PointerEvent): number {
  const left = field.value?.getBoundingClientRect().left ?? 0
  const cell = Math.floor((event.clientX - left) / cellWidth.value)
  return Math.min(Math.max(cell, 0), props.starts.length - 1)
}
function down(event: PointerEvent): void {
  if (props.readOnly) return
  dragFrom.value = cellAt(event)
  ;(event.currentTarget as HTMLElement).setPointerCapture(event.pointerId)
}
function move(event: PointerEvent): void {
  read(cellAt(event))
}
function up(event: PointerEvent): void {
  if (dragFrom.value === null) return
  const to = cellAt(event)
  const chosen: [number, number] = [Math.min(dragFrom.value, to), Math.max(dragFrom.value, to)]
  dragFrom.value = null
  if (props.readOnly) return
  const same = props.chosen && props.chosen[0] === chosen[0] && props.chosen[1] === chosen[1]
  emit('choose', same ? null : chosen)
}
function key(event: KeyboardEvent): void {
  const last = props.starts.length - 1
  if (event.key === 'Escape') {
    read(null)
    return emit('choose', null)
  }
  const step = event.key === 'ArrowLeft' ? -1 : event.key === 'ArrowRight' ? 1 : 0
  if (!step) return
  event.preventDefault()
  if (props.readOnly) {
    return read(Math.min(Math.max((hovered.value ?? last + 1) + step, 0), last))
  }
  if (!props.chosen) return emit('choose', [last, last])
  const [from, to] = props.chosen
  if (event.shiftKey) emit('choose', [from, Math.min(Math.max(to + step, from), last)])
  else {
    const cell = Math.min(Math.max(from + step, 0), last)
    emit('choose', [cell, cell])
  }
}

const band = computed(() => {
  const dragging = dragFrom.value !== null && hovered.value !== null
  const cells: [number, number] | null = dragging
    ? [Math.min(dragFrom.value!, hovered.value!), Math.max(dragFrom.value!, hovered.value!)]
    : props.chosen
  return cells && { left: cells[0] * cellWidth.value, width: (cells[1] - cells[0] + 1) * cellWidth.value }
})
/** What is chosen, from its begin to its end. */
const chosenWords = computed(() => {
  const from = props.chosen && props.starts[props.chosen[0]]
  const last = props.chosen && props.starts[props.chosen[1]]
  if (!from || !last) return 'none chosen'
  const to = new Date(last.getTime() + props.cellSeconds * 1000)
  return between({ from, to })
})
const span = computed(() => {
  const first = props.starts[0]
  const last = props.starts[props.starts.length - 1]
  return first && last ? { from: first, to: new Date(last.getTime() + props.cellSeconds * 1000) } : null
})
function place(at: Date): number {
  if (!span.value) return 0
  const whole = span.value.to.getTime() - span.value.from.getTime()
  return ((at.getTime() - span.value.from.getTime()) / whole) * width.value
}
const axis = computed(() => {
  if (!span.value || !width.value) return []
  const now = new Date()
  const coarse = props.cellSeconds >= 60
  return ticks(span.value.from, span.value.to, Math.max(2, width.value / 110))
    .map((at) => ({
      left: place(at),
      text: clock(at, now, !coarse),
    }))
    .filter((tick) => tick.left < width.value - LABEL)
})
const flags = computed(() => {
  const inside = span.value
  if (!inside) return []
  return props.markers
    .filter((marker) => marker.at >= inside.from && marker.at < inside.to)
    .map((marker) => ({ left: place(marker.at), text: `${clock(marker.at, new Date())} ${marker.text}` }))
})
const readout = computed(() => {
  const cell = hovered.value
  const start = cell === null ? undefined : props.starts[cell]
  if (cell === null || !start) {
    const narrow = '; click or drag to narrow the page.'
    return `Point at a column to read it${props.readOnly ? '.' : narrow}`
  }
  const end = new Date(start.getTime() + props.cellSeconds * 1000)
  const values = props.rows
    .filter((row) => row.tall || (!row.press && (row.values[cell] ?? 0) > 0))
    .map((row) => {
      const value = row.values[cell]
      const usual = row.tall ? row.usual?.[cell] : undefined
      const range = usual ? ` (usually ${row.write(Math.max(0, usual.low))} to ${row.write(usual.high)})` : ''
      return `${row.label} ${value == null ? 'not observed' : row.write(value)}${range}`
    })
  return `${clock(start, new Date())} to ${clock(end, new Date())}: ${values.join(' · ')}`
})
</script>

<template>
  <div class="stack" :style="{ gridTemplateColumns: `${labelWidth ?? 118}px 1fr auto` }">
    <div class="labels">
      <div class="head" />
      <div
        v-for="{ row, height } in shown"
        :key="row.key"
        class="label"
        :style="{ height: `${height}px` }"
        :title="row.hint"
      >
        <KindSwatch v-if="row.kind !== undefined && height > 15" :kind="row.kind" />
        <button
          v-if="row.press"
          type="button"
          class="press one-line"
          :class="[row.press, { mono: row.mono }]"
          :aria-expanded="row.press === 'fold' ? row.isOn : undefined"
          :aria-pressed="row.press === 'choose' ? row.isOn : undefined"
          @click="
            (event: MouseEvent) => emit('press', row.key, event.ctrlKey || event.metaKey || event.shiftKey)
          "
        >
          <span v-if="row.press === 'fold'" aria-hidden="true">{{ row.isOn ? '▾' : '▸' }}</span>{{
            row.label
          }}
        </button>
        <span v-else :class="{ muted: height === 15, total: row.tall }">{{ row.label }}</span>
      </div>
    </div>
    <div
      ref="field"
      class="field"
      role="slider"
      tabindex="0"
      :aria-label="
        readOnly
          ? 'Columns of time: arrow keys read one after the other'
          : 'Columns of time: arrow keys choose one, shift extends, escape clears'
      "
      :aria-valuemin="0"
      :aria-valuemax="starts.length - 1"
      :aria-valuenow="chosen ? chosen[0] : 0"
      :aria-valuetext="chosenWords"
      @pointerdown="down"
      @pointermove="move"
      @pointerup="up"
      @pointerleave="read(null)"
      @keydown="key"
    >
      <div class="head" />
      <svg
        v-for="{ row, height } in shown"
        :key="row.key"
        :width="width"
        :height="height"
        class="cells"
        :class="{ tall: row.tall, bare: row.press === 'fold' || row.press === 'more' }"
        role="img"
        :aria-label="`${row.label}: ${row.figures.join(', ')}`"
      >
        <path v-if="row.usual" :d="usualBand(row, height)" fill="var(--usual)" />
        <template v-for="(value, i) in row.values" :key="i">
          <rect
            v-if="value === null"
            :x="i * cellWidth"
            y="0"
            :width="cellWidth + 0.3"
            :height="height"
            fill="url(#ink-gap)"
          />
          <template v-else-if="value > 0">
            <rect
              v-for="(part, at) in inks(row, i, value, height)"
              :key="at"
              :x="i * cellWidth + 0.4"
              :y="part.y"
              :width="Math.max(cellWidth - 0.8, 0.6)"
              :height="part.height"
              :fill="part.fill"
            />
          </template>
        </template>
        <line
          v-if="limitAt(row, height) !== null"
          x1="0"
          :x2="width"
          :y1="limitAt(row, height)!"
          :y2="limitAt(row, height)!"
          stroke="var(--ink)"
          stroke-dasharray="5 3"
        />
      </svg>
      <div v-if="band" class="band" :style="{ left: `${band.left}px`, width: `${band.width}px` }" />
      <div v-if="hovered !== null" class="point" :style="{ left: `${(hovered + 0.5) * cellWidth}px` }" />
      <div
        v-for="(flag, i) in flags"
        :key="i"
        class="flag"
        :style="{ left: `${flag.left}px` }"
        :title="flag.text"
      />
      <div class="axis">
        <span v-for="tick in axis" :key="tick.left" :style="{ left: `${tick.left}px` }">{{ tick.text }}</span>
      </div>
    </div>
    <div class="ends">
      <div class="head">
        <span v-for="(name, i) in figureHeads" :key="name" :style="{ minWidth: endWidths[i] }">{{
          name
        }}</span>
      </div>
      <div v-for="{ row, height } in shown" :key="row.key" class="end" :style="{ height: `${height}px` }">
        <span
          v-for="(figure, i) in row.figures"
          :key="i"
          :title="
            figure && figuresOf ? `${row.label}, ${figureHeads[i] ?? ''}: ${figure}; ${figuresOf}` : undefined
          "
          :class="{ muted: height === 15 || row.press === 'fold', total: row.tall }"
          :style="{ minWidth: endWidths[i] }"
          >{{ figure }}</span
        >
      </div>
    </div>
    <div class="readout muted">{{ readout }}</div>
  </div>
</template>

<style scoped>
.stack {
  display: grid;
  column-gap: 8px;
}
.head {
  height: 18px;
  font-size: 12px;
  color: var(--muted);
}
.labels {
  min-width: 0;
}
.label {
  display: flex;
  min-width: 0;
  align-items: end;
  gap: 6px;
  font-size: 13px;
  line-height: 15px;
  padding-bottom: 1px;
}
.total {
  font-weight: 700;
}
.press {
  border: 0;
  background: none;
  color: inherit;
  font: inherit;
  line-height: 15px;
  min-height: 24px;
  padding: 0 2px;
  text-align: left;
  cursor: pointer;
  max-width: 100%;
}
.press.mono {
  font-family: 'JetBrains Mono', monospace;
  font-size: 12px;
}
.press.fold {
  font-weight: 700;
}
.press.fold span {
  margin-right: 6px;
}
.press.more {
  color: var(--muted);
  text-decoration: underline;
}
.press:hover {
  color: var(--plum);
}
.press[aria-pressed='true'] {
  background: var(--plum-wash);
  outline: 1px solid var(--plum);
}
.cells.bare {
  border-bottom-color: transparent;
}
.field {
  position: relative;
  min-width: 0;
  cursor: crosshair;
  touch-action: none;
  padding-bottom: 22px;
}
.cells {
  display: block;
  border-bottom: 1px solid var(--rule);
  box-sizing: border-box;
}
.cells.tall {
  border-bottom-color: var(--ink);
}
.band {
  position: absolute;
  top: 14px;
  bottom: 20px;
  border: 1.5px solid var(--plum);
  background: color-mix(in srgb, var(--plum) 10%, transparent);
  pointer-events: none;
}
.point {
  position: absolute;
  top: 14px;
  bottom: 20px;
  width: 1px;
  background: var(--muted);
  pointer-events: none;
}
.flag {
  position: absolute;
  top: 3px;
  bottom: 20px;
  width: 9px;
  margin-left: -4px;
  background: linear-gradient(var(--ink), var(--ink)) center / 1px 100% no-repeat;
}
.flag::before {
  content: '';
  position: absolute;
  top: 0;
  left: 1px;
  border: 4px solid transparent;
  border-top: 7px solid var(--ink);
}
.axis {
  position: absolute;
  bottom: 0;
  left: 0;
  right: 0;
  height: 20px;
  overflow: hidden;
  font-size: 12px;
  color: var(--muted);
}
.axis span {
  position: absolute;
  border-left: 1px solid var(--rule);
  padding-left: 3px;
  white-space: nowrap;
}
.ends .head,
.end {
  display: flex;
  gap: 10px;
  align-items: end;
  justify-content: end;
}
.ends .head span,
.end span {
  min-width: 58px;
  text-align: right;
  font-size: 13px;
  line-height: 16px;
  white-space: nowrap;
}
.readout {
  grid-column: 1 / -1;
  font-size: 12.5px;
  min-height: 18px;
  padding-top: 2px;
}
</style>
