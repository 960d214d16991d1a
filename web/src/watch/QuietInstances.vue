<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { usePlainLinks } from '../composables/usePlainLinks'
import { counted } from '../format'
import HealthMark from '../pictures/HealthMark.vue'
import type { Instance } from '../stores/roster'

/** Instances of which nobody has to look at anything, by name: hundreds of them take little room. */
defineProps<{ instances: readonly Instance[] }>()
const emit = defineEmits<{ unfold: [] }>()
const { hrefOf, follow } = usePlainLinks()
</script>

<template>
  <section class="sheet quiet" data-test="quiet">
    <div class="head">
      <h2><HealthMark health="quiet" /> {{ counted(instances.length, 'instance') }}</h2>
      <Button size="small" @click="emit('unfold')">Show each in a line</Button>
    </div>
    <ul @click="follow">
      <li v-for="one in instances" :key="one.instance_id">
        <a
          data-plain
          :href="hrefOf('load', 'instance', one.label)"
          :title="one.silenced_by ? `${one.label}, maintenance: ${one.silenced_by}` : one.label"
          >{{ one.label }}</a
        >
      </li>
    </ul>
  </section>
</template>

<style scoped>
/* It lies below the others: what is not in sight is not laid out. */
.quiet {
  content-visibility: auto;
  contain-intrinsic-size: auto 400px;
}
.head {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
}
h2 {
  display: flex;
  gap: 10px;
  align-items: baseline;
  margin: 0 0 6px;
  font-size: 14px;
  font-weight: 400;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(88px, 1fr));
  gap: 0 12px;
}
a {
  display: block;
  min-height: 24px;
  color: inherit;
  text-decoration: none;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
a:hover,
a:focus-visible {
  text-decoration: underline;
}
</style>
