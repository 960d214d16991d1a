<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useNews } from '../composables/useNews'
import { LAST_CHOICES, useWindow } from '../composables/useWindow'
import { typedTime } from '../composables/typedTime'
import { between, clock, inUtc, zone } from '../format'
import { ticks } from '../pictures/axis'
import { fullOf, usualPath, within } from '../pictures/usual'
import { useHistory } from '../stores/history'
import NoteMarker from './NoteMarker.vue'
import { useLinks } from './useLinks'

/**
 * The history kept of the instance in one strip, with two bands that can be dragged: *now*, the window looked at, and
 * *then*, the one that it is compared with.
 */
const route = useRoute()
const router = useRouter()
const kept = useHistory()
const { page } = useLinks()
const news = useNews('activity')
const { window, then: comparedWith, setLast, setSpan, setThen } = useWindow(news)
const history = computed(() => kept.history)
/** The window compared with, where the page compares. */
const then = computed(() => (page.value?.comparesTime ? comparedWith.value : null))

const strip = ref<HTMLElement | null>(null)
const { width } = useElementSize(strip)
const HEIGHT = 34
/** Room that the label of a tick needs, in pixels. */
const LABEL = 56

/** The ruler shows the whole history, and the window where that is longer. */
const ends = computed(() => {
  const span = history.value?.span
  const from = span ? new Date(span.from).getTime() : window.value.from.getTime()
  const to = Math.max(span ? new Date(span.to).getTime() : 0, window.value.to.getTime())
  return { from: Math.min(from, to - 60_000), to }
})
const place = (at: number) => ((at - ends.value.from) / (ends.value.to - ends.value.from)) * width.value
const momentAt = (x: number) =>
  ends.value.from + (x / Math.max(width.value, 1)) * (ends.value.to - ends.value.from)

const most = computed(() =>
  fullOf(
    history.value?.cells ?? [],
    kept.usual.map(({ high }) => high),
  ),
)
/** Where a cell of the history begins, and how wide it is. */
function placed(i: number): { x: number; width: number } {
  const seconds = history.value?.cell_seconds ?? 1
  const first = history.value?.span ? new Date(history.value.span.from).getTime() : 0
  const [x, end] = [place(first + i * seconds * 1000), place(first + (i + 1) * seconds * 1000)]
  return { x, width: Math.max(end - x, 0.5) }
}
const cells = computed(() =>
  (history.value?.cells ?? []).map((cell, i) => ({
    ...placed(i),
    height: cell === null ? null : Math.max(cell > 0 ? 1 : 0, (cell / most.value) * (HEIGHT - 4)),
  })),
)
/** What is usual, drawn as high as the load of the same value. */
const usual = computed(() => {
  const up = (value: number) => within(HEIGHT - 4, most.value)(value) + 4
  const cells = kept.usual.slice(0, history.value?.cells.length ?? 0)
  return usualPath(
    cells.map((cell, i) => ({ ...cell, ...placed(i) })),
    up,
  )
})
const markers = computed(() =>
  (history.value?.markers ?? []).map((marker) => ({
    x: place(new Date(marker.at).getTime()),
    text: `${clock(marker.at, new Date())} ${marker.text}`,
  })),
)
const axis = computed(() =>
  ticks(new Date(ends.value.from), new Date(ends.value.to), Math.max(2, width.value / 120))
    .map((at) => ({
      x: place(at.getTime()),
      text: clock(at, new Date(), ends.value.to - ends.value.from < 600_000),
    }))
    .filter((tick) => tick.x < width.value - LABEL),
)

/** What is dragged: an edge of *now* or a new one, from a fixed moment; or *then* as a whole, by where it was taken. */
type Grip = { edge: 'from' | 'to' | 'new' | 'then'; fixed: number; moving: number }
const grip = ref<Grip | null>(null)
const band = computed(() => {
  const dragged = grip.value?.edge === 'then' ? null : grip.value
  const from = dragged ? Math.min(dragged.fixed, dragged.moving) : window.value.from.getTime()
  const to = dragged ? Math.max(dragged.fixed, dragged.moving) : window.value.to.getTime()
  const left = Math.max(0, place(from))
  return { left, width: Math.max(3, Math.min(width.value, place(to)) - left) }
})

const thenBand = computed(() => {
  // Before the history there is nothing to stand on.
  if (!then.value || then.value.to.getTime() <= ends.value.from) return null
  const moved = grip.value?.edge === 'then' ? grip.value.moving - grip.value.fixed : 0
  const left = place(then.value.from.getTime() + moved)
  const right = place(then.value.to.getTime() + moved)
  return { left: Math.max(0, left), width: Math.max(3, Math.min(width.value, right) - Math.max(0, left)) }
})

function pointer(event: PointerEvent): number {
  const left = strip.value?.getBoundingClientRect().left ?? 0
  return Math.min(Math.max(momentAt(event.clientX - left), ends.value.from), ends.value.to)
}
function down(event: PointerEvent): void {
  const at = pointer(event)
  const near = (moment: number) => Math.abs(place(moment) - place(at)) < 7
  const { from, to } = window.value
  if (near(to.getTime())) grip.value = { edge: 'to', fixed: from.getTime(), moving: at }
  else if (near(from.getTime())) grip.value = { edge: 'from', fixed: to.getTime(), moving: at }
  else if (then.value && at >= then.value.from.getTime() && at <= then.value.to.getTime())
    grip.value = { edge: 'then', fixed: at, moving: at }
  else grip.value = { edge: 'new', fixed: at, moving: at }
  strip.value?.setPointerCapture(event.pointerId)
}
function move(event: PointerEvent): void {
  if (grip.value) grip.value = { ...grip.value, moving: pointer(event) }
}
function up(): void {
  const dragged = grip.value
  grip.value = null
  if (!dragged || Math.abs(dragged.moving - dragged.fixed) < 5000) return
  if (dragged.edge === 'then') return moveThen(dragged.moving - dragged.fixed)
  setSpan(
    new Date(Math.min(dragged.fixed, dragged.moving)),
    new Date(Math.max(dragged.fixed, dragged.moving)),
  )
}
/** Moves *then* by so many milliseconds, never beyond now. */
function moveThen(by: number): void {
  if (!then.value) return
  const length = then.value.to.getTime() - then.value.from.getTime()
  setThen(new Date(Math.min(then.value.from.getTime() + by, Date.now() - length)))
}
function thenKey(event: KeyboardEvent): void {
  if (!then.value) return
  const length = then.value.to.getTime() - then.value.from.getTime()
  const shift = { ArrowLeft: -1, ArrowRight: 1 }[event.key]
  if (shift) moveThen(shift * Math.max(5000, length / 4))
  else if (event.key === 'Delete' || event.key === 'Backspace') setThen(null)
  else return
  event.preventDefault()
  event.stopPropagation()
}
/** Shifts the window by a quarter of itself, or makes it half or twice as long around its middle. */
function key(event: KeyboardEvent): void {
  const { from, to } = window.value
  const length = to.getTime() - from.getTime()
  const shift = { ArrowLeft: -1, ArrowRight: 1 }[event.key]
  const zoom = { '+': 0.5, '-': 2, '−': 2 }[event.key]
  if (shift) {
    const by = Math.min(shift * Math.max(5000, length / 4), Math.max(Date.now() - to.getTime(), 0))
    if (by !== 0) setSpan(new Date(from.getTime() + by), new Date(to.getTime() + by))
  } else if (zoom) {
    const half = Math.max(length * zoom, 10_000) / 2
    const end = Math.min((from.getTime() + to.getTime()) / 2 + half, Date.now())
    setSpan(new Date(end - 2 * half), new Date(end))
  } else return
  event.preventDefault()
}

const typed = ref('')
const fault = ref('')
function take(): void {
  const found = typedTime(typed.value, new Date(), inUtc.value)
  if (typeof found === 'string') return void (fault.value = found)
  fault.value = ''
  typed.value = ''
  if ('then' in found) setThen(found.then)
  else if ('last' in found) setLast(found.last)
  else setSpan(found.from, found.to)
}
function turnZone(): void {
  void router.replace({ query: { ...route.query, zone: inUtc.value ? undefined : 'utc' } })
}
const words = computed(() => {
  const { from, to, last } = window.value
  const span = `${clock(from, new Date())} – ${clock(to, new Date())}`
  return last ? `now: last ${last}, following the clock` : `now: ${span}`
})
const thenWords = computed(() =>
  then.value
    ? `then: ${between(then.value)}${then.value.earlier ? `, ${then.value.earlier} earlier` : ''}${thenBand.value ? '' : ', before the history'}`
    : 'then: none',
)
/** By how much *then* can be earlier at a press. */
const EARLIER = ['1h', '1d', '7d']
</script>

<template>
  <div class="ruler">
    <div
      ref="strip"
      class="strip"
      role="slider"
      tabindex="0"
      aria-label="Time ruler: drag to choose the window looked at, arrow keys move it, plus and minus change its length"
      :aria-valuemin="0"
      :aria-valuemax="100"
      :aria-valuenow="Math.round((band.left / Math.max(width, 1)) * 100)"
      :aria-valuetext="words"
      @pointerdown="down"
      @pointermove="move"
      @pointerup="up"
      @keydown="key"
    >
      <svg :width="width" :height="HEIGHT + 16">
        <path v-if="usual" :d="usual" fill="var(--usual)" />
        <template v-for="(cell, i) in cells" :key="i">
          <rect
            v-if="cell.height === null"
            :x="cell.x"
            y="0"
            :width="cell.width + 0.3"
            :height="HEIGHT"
            fill="url(#ink-gap)"
          />
          <rect
            v-else
            :x="cell.x"
            :y="HEIGHT - cell.height"
            :width="cell.width"
            :height="cell.height"
            fill="var(--muted)"
          />
        </template>
        <line x1="0" :x2="width" :y1="HEIGHT" :y2="HEIGHT" stroke="var(--rule)" />
        <g v-for="tick in axis" :key="tick.x">
          <line :x1="tick.x" :x2="tick.x" :y1="HEIGHT" :y2="HEIGHT + 5" stroke="var(--muted)" />
          <text :x="tick.x + 3" :y="HEIGHT + 12">{{ tick.text }}</text>
        </g>
        <path
          v-for="(marker, i) in markers"
          :key="`m${i}`"
          :d="`M${marker.x} ${HEIGHT}l-4 7h8z`"
          fill="var(--ink)"
        >
          <title>{{ marker.text }}</title>
        </path>
      </svg>
      <div class="band" :style="{ left: `${band.left}px`, width: `${band.width}px` }">
        <i /><i /><b>now</b>
      </div>
      <div
        v-if="thenBand"
        class="band then"
        role="slider"
        tabindex="0"
        aria-label="Then: arrow keys move the window compared with, delete removes it"
        :aria-valuemin="0"
        :aria-valuemax="100"
        :aria-valuenow="Math.round((thenBand.left / Math.max(width, 1)) * 100)"
        :aria-valuetext="thenWords"
        :style="{ left: `${thenBand.left}px`, width: `${thenBand.width}px` }"
        @keydown="thenKey"
      >
        <b>then</b>
      </div>
    </div>
    <div class="choices">
      <form class="presets" @submit.prevent="take">
        <button
          v-for="choice in LAST_CHOICES"
          :key="choice"
          type="button"
          :aria-pressed="window.last === choice"
          :title="`The last ${choice}, following the clock`"
          @click="setLast(choice)"
        >
          {{ choice }}
        </button>
        <button
          v-if="window.last"
          type="button"
          title="Keep what is on the screen; a length such as 15m follows the clock again"
          @click="setSpan(window.from, window.to)"
        >
          Freeze
        </button>
        <input
          v-model="typed"
          name="time"
          placeholder="yesterday 14:00–15:00"
          aria-label="Time: a length, a day, or two times"
          :aria-invalid="fault !== ''"
          aria-describedby="time-fault"
          @input="fault = ''"
        />
      </form>
      <span class="words">
        {{ words }} ·
        <button
          type="button"
          class="zone"
          :title="`Show times in ${inUtc ? 'your zone' : 'UTC'}`"
          @click="turnZone"
        >
          {{ zone() }}
        </button>
        <NoteMarker @noted="kept.reload" />
      </span>
      <span v-if="page?.comparesTime" class="words earlier" :title="thenWords">
        then:
        <template v-if="then && !then.earlier">{{ clock(then.from, new Date(), false) }} or</template>
        <button
          v-for="by in EARLIER"
          :key="by"
          type="button"
          :aria-pressed="then?.earlier === by"
          :title="`Compare with the window ${by} earlier`"
          @click="setThen(by)"
        >
          {{ by }}
        </button>
        earlier
        <button v-if="then" type="button" title="Compare with no other window" @click="setThen(null)">
          Clear
        </button>
      </span>
      <p v-if="fault" id="time-fault" role="alert">{{ fault }}</p>
    </div>
  </div>
</template>

<style scoped>
.ruler {
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 14px;
  align-items: start;
  padding: 8px 14px 2px;
  border-bottom: 1px solid var(--rule);
  background: var(--sheet);
}
.strip {
  position: relative;
  min-width: 0;
  height: 50px;
  touch-action: none;
  cursor: ew-resize;
}
text {
  font-size: 11.5px;
  fill: var(--muted);
}
.band {
  position: absolute;
  top: -2px;
  height: 37px;
  background: color-mix(in srgb, var(--plum) 14%, transparent);
  border: solid var(--plum);
  border-width: 0 2px;
  pointer-events: none;
}
.band i {
  position: absolute;
  top: 11px;
  width: 6px;
  height: 14px;
  background: var(--plum);
}
.band i:first-child {
  left: -4px;
}
.band i:last-child {
  right: -4px;
}
.band b {
  position: absolute;
  top: 0;
  left: 3px;
  font-size: 11px;
  font-weight: 600;
  line-height: 12px;
  padding: 0 2px;
  color: var(--plum);
  background: var(--sheet);
}
.band.then {
  background: repeating-linear-gradient(
    -45deg,
    color-mix(in srgb, var(--ink) 14%, transparent) 0 2px,
    transparent 2px 6px
  );
  border-color: var(--ink);
  border-style: dashed;
  pointer-events: none;
}
.band.then b {
  color: var(--ink);
}
.choices {
  text-align: right;
}
.earlier {
  display: block;
}
.earlier button {
  font-size: 12px;
  min-height: 24px;
  min-width: 24px;
}
.earlier button:last-child:not([aria-pressed]) {
  margin-left: 6px;
}
form button,
.earlier button {
  font: inherit;
  font-size: 13px;
  border: 1px solid var(--rule);
  background: none;
  color: inherit;
  padding: 1px 7px;
  margin-left: -1px;
  cursor: pointer;
}
form button[aria-pressed='true'],
.earlier button[aria-pressed='true'] {
  background: var(--plum);
  border-color: var(--plum);
  color: var(--on-plum);
}
.presets {
  display: flex;
  justify-content: end;
}
.choices input {
  width: 165px;
  margin-left: 6px;
  font: inherit;
  font-size: 13px;
  color: inherit;
  background: var(--sheet);
  border: 1px solid var(--rule);
  min-height: 24px;
  padding: 1px 6px;
}
.words:not(.earlier) > :last-child {
  margin-left: 12px;
}
.choices .zone {
  border: 0;
  padding: 0;
  font: inherit;
  color: inherit;
  background: none;
  cursor: pointer;
  text-decoration: underline;
}
.choices p {
  max-width: 440px;
  margin: 2px 0 4px;
  color: var(--warn);
  font-size: 12.5px;
  text-align: left;
}
.words {
  font-size: 12px;
  color: var(--muted);
}
</style>
