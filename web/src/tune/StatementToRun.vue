<script setup lang="ts">
import { computed, reactive } from 'vue'
import type { Schemas } from '../api/client'
import StatementText from '../ui/StatementText.vue'

/** A statement with its decisions left open: until all are taken there is nothing to copy. */
const props = defineProps<{ pieces: Schemas['StatementPiece'][] }>()
type Decision = Extract<Schemas['StatementPiece'], { piece: 'decision' }>
const decisions = computed(() =>
  props.pieces.filter((piece): piece is Decision => piece.piece === 'decision'),
)
const taken = reactive<Record<string, string | undefined>>({})
const complete = computed(() =>
  decisions.value.every(
    (decision) =>
      taken[decision.name] !== undefined && (decision.choices.length > 0 || taken[decision.name] !== ''),
  ),
)
const parts = computed(() =>
  props.pieces.map((piece) => {
    if (piece.piece === 'text') return { text: piece.text, open: false }
    const text = taken[piece.name]
    const isOpen = text === undefined || (piece.choices.length === 0 && text === '')
    return { text: isOpen ? `‹${piece.name}?› ` : text, open: isOpen }
  }),
)
const text = computed(() => parts.value.map((part) => part.text).join(''))
</script>

<template>
  <div>
    <fieldset v-for="decision in decisions" :key="decision.name">
      <legend>{{ decision.question }}</legend>
      <template v-if="decision.choices.length">
        <label v-for="choice in decision.choices" :key="choice.label" class="choice">
          <input v-model="taken[decision.name]" type="radio" :name="decision.name" :value="choice.text" />
          <span
            ><b>{{ choice.label }}.</b> {{ choice.consequence }}</span
          >
        </label>
      </template>
      <div v-else class="name">
        <input
          v-model.trim="taken[decision.name]"
          class="mono"
          :aria-label="decision.question"
          maxlength="63"
        />
        <button
          v-if="decision.suggestion && taken[decision.name] !== decision.suggestion"
          type="button"
          @click="taken[decision.name] = decision.suggestion ?? ''"
        >
          use {{ decision.suggestion }}
        </button>
      </div>
    </fieldset>
    <StatementText v-if="complete" :text="text" name="the statement to run" />
    <pre
      v-else
      class="open"
      data-test="statement-open"
    ><template v-for="(part, i) in parts" :key="i"><mark v-if="part.open">{{ part.text }}</mark><template v-else>{{ part.text }}</template></template></pre>
    <p class="muted">
      {{
        complete
          ? 'Run it on the server with an account that owns the table. Hurnix changes nothing by itself.'
          : 'The statement can be copied once each question is answered.'
      }}
    </p>
  </div>
</template>

<style scoped>
fieldset {
  border: 0;
  padding: 0;
  margin: 0 0 8px;
}
legend {
  font-weight: 700;
  padding: 0;
}
.choice {
  display: flex;
  gap: 8px;
  align-items: baseline;
  padding: 2px 0;
}
.name {
  display: flex;
  gap: 8px;
  padding: 2px 0;
}
.name input {
  width: 300px;
  color: inherit;
  background: var(--paper);
  border: 1px solid var(--muted);
  padding: 3px 6px;
}
.name button {
  font: inherit;
  font-size: 13px;
  border: 1px solid var(--plum);
  background: none;
  color: var(--plum);
  cursor: pointer;
}
.open {
  margin: 0 0 6px;
  padding: 8px 10px;
  background: var(--sunk);
  border-left: 3px dashed var(--plum);
  user-select: none;
  white-space: pre-wrap;
}
mark {
  background: var(--plum-wash);
  color: var(--ink);
}
</style>
