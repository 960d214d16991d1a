<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Schemas } from '../api/client'
import { bytes, number } from '../format'
import { searchesPerDay, usesInWords } from './columnUses'
import { drawn, HEAD } from './indexMap'

/**
 * The index map: columns in use across, each index a way over its keys. Ink fades with each key; columns that are only
 * carried are open ends; what begins alike goes side by side.
 */
type Index = Schemas['TableIndex']
const props = defineProps<{
  map: Schemas['IndexMapFigures']
  indexes: readonly Index[]
  findings: readonly Schemas['IndexFindingFigures'][]
  kinds: readonly Schemas['IndexFindingKindFigures'][]
}>()
const BAR = 22
const LONGEST = 20
const NAME = 34
const picture = computed(() => drawn(props.map))
const pointed = ref<string>()
const byName = computed(() => new Map(props.indexes.map((index) => [index.name, index])))
const keyed = computed(() => new Set(props.map.steps.map((step) => step.column)))
const short = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text)
const most = computed(() => Math.max(10, ...props.map.columns.map((column) => searchesPerDay(column.uses))))
/** How often it is searched by, on a scale of tenfold steps. */
const bar = (uses: readonly Schemas['ColumnUseFigures'][]) => {
  const calls = searchesPerDay(uses)
  return calls < 1 ? 0 : Math.max(2, (Math.log10(calls + 1) / Math.log10(most.value + 1)) * BAR)
}
const finding = (index: string) => {
  const found = props.findings.find((one) => one.index === index)
  const title = props.kinds.find((kind) => kind.kind === found?.kind)?.title
  return title?.toLowerCase().replace(/ index$/, '')
}
const figures = (index: Index | undefined) =>
  index
    ? [
        bytes(index.size_bytes),
        index.reads_per_day == null ? undefined : `${number(index.reads_per_day)} reads/d`,
      ]
        .filter(Boolean)
        .join(' · ')
    : ''
const sentence = (index: Index | undefined) => {
  if (!index) return ''
  const parts = [
    `${index.name}: ${index.keys.join(', ')}`,
    index.carried.length ? `carries ${index.carried.join(', ')}` : undefined,
    index.condition ? `holds rows where ${index.condition}` : undefined,
    index.constraint ? 'a constraint needs it' : index.unique ? 'unique' : undefined,
    index.valid ? undefined : 'invalid',
  ]
  return parts.filter(Boolean).join('; ')
}
</script>

<template>
  <div class="map">
    <svg
      :viewBox="`0 0 ${picture.width} ${picture.height}`"
      :width="picture.width"
      :height="picture.height"
      role="img"
      aria-label="Index map: columns in use across, each index a way over its keys"
      data-test="index-map"
    >
      <g v-for="(column, place) in map.columns" :key="column.name">
        <line
          :x1="picture.columns[place]"
          :x2="picture.columns[place]"
          :y1="HEAD"
          :y2="picture.height"
          class="guide"
          :class="{ alone: !keyed.has(place) }"
        />
        <rect
          :x="picture.columns[place]! - 4"
          :y="HEAD - bar(column.uses)"
          width="8"
          :height="bar(column.uses)"
          :class="keyed.has(place) ? 'searched' : 'unserved'"
        />
        <text
          :x="picture.columns[place]"
          :y="HEAD - BAR - 6"
          :transform="`rotate(-32 ${picture.columns[place]} ${HEAD - BAR - 6})`"
          class="mono"
        >
          {{ short(column.name, LONGEST) }}
          <title>
            {{ column.name }}:
            {{ column.uses.length ? `${usesInWords(column.uses)} calls a day` : 'no use seen' }}
          </title>
        </text>
      </g>
      <g
        v-for="way in picture.ways"
        :key="way.index"
        class="way"
        :class="{ faint: pointed !== undefined && pointed !== way.index }"
        @mouseenter="pointed = way.index"
        @mouseleave="pointed = undefined"
      >
        <path :d="way.leader" class="leader" />
        <path
          v-for="(stretch, place) in way.stretches"
          :key="place"
          :d="stretch.d"
          class="stretch"
          :class="{ partial: byName.get(way.index)?.condition }"
          :style="{ opacity: stretch.ink }"
        />
        <circle
          v-for="(key, place) in way.keys"
          :key="place"
          :cx="key.x"
          :cy="key.y"
          :r="place === way.keys.length - 1 ? 4.5 : 3"
          class="key"
          :style="{ opacity: key.ink }"
        />
        <g v-for="(end, place) in way.carried" :key="place">
          <circle :cx="end.x" :cy="end.y" r="4" class="carried" />
        </g>
        <text :x="way.name.x" :y="way.name.y + 4">
          <tspan class="mono name">{{ short(way.index, NAME) }}</tspan>
          <tspan dx="8" class="muted">{{ figures(byName.get(way.index)) }}</tspan>
          <tspan v-if="finding(way.index)" dx="8" class="found">
            {{ finding(way.index) }}
          </tspan>
          <title>{{ sentence(byName.get(way.index)) }}</title>
        </text>
      </g>
    </svg>
    <p class="muted legend">
      Above a column: how often statements search by it, each step tenfold; a dashed outline where no index
      has it as a key. A way fades with each key of its index; an open end is a column that is carried; a
      dashed way holds part of the rows. Indexes that begin alike go side by side.
    </p>
  </div>
</template>

<style scoped>
.map {
  overflow-x: auto;
}
.guide {
  stroke: var(--rule);
}
.guide.alone {
  stroke-dasharray: 2 4;
}
.searched {
  fill: var(--muted);
}
.unserved {
  fill: none;
  stroke: var(--warn);
  stroke-width: 1.5;
  stroke-dasharray: 2 1.5;
}
text {
  fill: var(--ink);
  font-size: 12.5px;
}
text .muted {
  fill: var(--muted);
}
text .found {
  fill: var(--warn);
  font-weight: 700;
}
.stretch {
  fill: none;
  stroke: var(--plum);
  stroke-width: 2;
}
.partial {
  stroke-dasharray: 6 3;
}
.key {
  fill: var(--plum);
}
.carried {
  fill: var(--sheet);
  stroke: var(--plum);
  stroke-width: 1.5;
}
.leader {
  fill: none;
  stroke: var(--rule);
  stroke-dasharray: 1 3;
  stroke-width: 1.5;
}
.faint {
  opacity: 0.25;
}
.legend {
  font-size: 12.5px;
  margin: 4px 0 0;
}
</style>
