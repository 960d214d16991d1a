<script lang="ts">
/** A row of points of a chart: moments in milliseconds of the epoch or numbers, each with its value. */
export interface ChartSeries {
  name: string
  kind: 'line' | 'bar' | 'scatter'
  /** A value that is not known is a gap. */
  points: readonly (readonly [number, number | null])[]
  /** The first is plum, the second ink, the third muted. */
  ink?: 'plum' | 'ink' | 'muted'
}
</script>

<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'
import { clock, number } from '../format'
import { ticks } from './axis'
import { cursor } from './cursor'

/**
 * Curves, bars or points over time or over a number. It is read with the pointer or the arrow keys; where its axis is
 * time, the moment read is that of every picture of the page.
 */
const props = defineProps<{
  /** What it shows, in words. */
  label: string
  series: readonly ChartSeries[]
  /** Ends of the axis across. */
  from: number
  to: number
  /** Whether the axis across is time. */
  isTime?: boolean
  /** How values are written, with their unit. */
  write: (value: number) => string
  /** How a number on the axis across is written. */
  writeAcross?: (value: number) => string
  height?: number
}>()

const LEFT = 64
const RIGHT = 12
const TOP = 8
const BOTTOM = 22
const height = computed(() => props.height ?? 180)
const box = ref<HTMLElement | null>(null)
const { width } = useElementSize(box)
const inner = computed(() => Math.max(width.value - LEFT - RIGHT, 1))

const across = (value: number) =>
  props.isTime
    ? clock(new Date(value), new Date(), props.to - props.from < 600_000)
    : (props.writeAcross ?? number)(value)
const place = (at: number) => LEFT + ((at - props.from) / (props.to - props.from || 1)) * inner.value
/** All places across at which something is drawn, in order. */
const places = computed(() =>
  [...new Set(props.series.flatMap((one) => one.points.map(([at]) => at)))].sort((a, b) => a - b),
)
const own = ref<number | null>(null)
/** Where it is read: the place next to the cursor. */
const reading = computed(() => {
  const at = props.isTime ? cursor.value : own.value
  if (at === null || at < props.from || at > props.to) return null
  return places.value.reduce<number | null>(
    (best, place) => (best === null || Math.abs(place - at) < Math.abs(best - at) ? place : best),
    null,
  )
})
function read(at: number | null): void {
  if (props.isTime) cursor.value = at
  else own.value = at
}
function move(event: PointerEvent): void {
  const left = box.value?.getBoundingClientRect().left ?? 0
  read(props.from + ((event.clientX - left - LEFT) / inner.value) * (props.to - props.from))
}
function key(event: KeyboardEvent): void {
  const all = places.value
  const at = reading.value === null ? -1 : all.indexOf(reading.value)
  const to = {
    ArrowLeft: at < 0 ? all.length - 1 : at - 1,
    ArrowRight: at < 0 ? 0 : at + 1,
    Home: 0,
    End: all.length - 1,
  }[event.key]
  if (event.key === 'Escape') return read(null)
  if (to === undefined || all.length === 0) return
  event.preventDefault()
  read(all[Math.min(Math.max(to, 0), all.length - 1)]!)
}
const readout = computed(() => {
  const at = reading.value
  if (at === null) return 'Point at the chart, or press an arrow key, to read it.'
  const values = props.series.flatMap((one) => {
    const point = one.points.find(([place]) => place === at)
    return point ? [`${one.name} ${point[1] === null ? 'not known' : props.write(point[1])}`] : []
  })
  return `${across(at)}: ${values.join(' · ')}`
})

const chart = shallowRef<import('echarts/core').EChartsType | null>(null)
const theme = ref('')
const watcher = new MutationObserver(() => (theme.value = document.documentElement.dataset.theme ?? ''))
onMounted(async () => {
  watcher.observe(document.documentElement, { attributes: true, attributeFilter: ['data-theme'] })
  const { draw } = await import('./chart')
  if (box.value) chart.value = draw(box.value)
})
onBeforeUnmount(() => {
  watcher.disconnect()
  chart.value?.dispose()
  read(null)
})
const INKS = ['plum', 'ink', 'muted'] as const
watch(
  [chart, width, height, theme, () => props.series, () => [props.from, props.to]],
  () => {
    if (!chart.value || width.value === 0) return
    const style = getComputedStyle(document.documentElement)
    const colour = (name: string) => style.getPropertyValue(`--${name}`).trim()
    const text = {
      color: colour('muted'),
      fontFamily: getComputedStyle(document.body).fontFamily,
      fontSize: 12,
    }
    const marks = props.isTime
      ? ticks(new Date(props.from), new Date(props.to), Math.max(2, inner.value / 110)).map((at) =>
          at.getTime(),
        )
      : undefined
    chart.value.resize({ width: width.value, height: height.value })
    chart.value.setOption(
      {
        animation: false,
        grid: { left: LEFT, right: RIGHT, top: TOP, bottom: BOTTOM },
        xAxis: {
          type: 'value',
          min: props.from,
          max: props.to,
          axisLabel: { ...text, formatter: across, customValues: marks, hideOverlap: true },
          axisTick: { customValues: marks },
          axisLine: { lineStyle: { color: colour('ink') } },
          splitLine: { show: false },
        },
        yAxis: {
          type: 'value',
          axisLabel: { ...text, formatter: props.write },
          splitLine: { lineStyle: { color: colour('rule') } },
        },
        series: props.series.map((one, i) => {
          const ink = colour(one.ink ?? INKS[i % INKS.length]!)
          return {
            type: one.kind,
            name: one.name,
            data: one.points,
            silent: true,
            connectNulls: false,
            showSymbol: false,
            symbolSize: 5,
            // Told apart without their colour.
            lineStyle: { color: ink, width: 1.5, type: i === 0 ? 'solid' : 'dashed' },
            itemStyle: { color: ink, opacity: one.kind === 'scatter' ? 0.6 : 1 },
            barMaxWidth: 28,
          }
        }),
      },
      true,
    )
  },
  { deep: false },
)
</script>

<template>
  <figure class="chart">
    <div class="canvas">
      <div
        ref="box"
        role="slider"
        tabindex="0"
        :aria-label="`${label}: arrow keys read one value after the other`"
        :aria-valuemin="from"
        :aria-valuemax="to"
        :aria-valuenow="reading ?? from"
        :aria-valuetext="readout"
        :style="{ height: `${height}px` }"
        @pointermove="move"
        @pointerleave="read(null)"
        @keydown="key"
      />
      <div
        v-if="reading !== null"
        class="point"
        :style="{ left: `${place(reading)}px`, height: `${height - BOTTOM - TOP}px` }"
      />
    </div>
    <figcaption class="muted">{{ readout }}</figcaption>
  </figure>
</template>

<style scoped>
.chart {
  margin: 0;
}
.canvas {
  position: relative;
}
.point {
  position: absolute;
  top: 8px;
  width: 1px;
  background: var(--muted);
  pointer-events: none;
}
figcaption {
  font-size: 12.5px;
  min-height: 18px;
}
</style>
