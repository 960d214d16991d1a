<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api } from '../api/client'
import { useAction } from '../composables/useAction'
import { useSession } from '../stores/session'
import DoorForm from './DoorForm.vue'
import { ownAddress } from './ownAddress'

/** Whoever came with a one-time password sets another one here, and can do nothing else before. */
const session = useSession()
const route = useRoute()
const router = useRouter()
const current = ref('')
const fresh = ref('')
const again = ref('')
const { busy, problem, run } = useAction()
const differ = computed(() => again.value !== '' && again.value !== fresh.value)
const trouble = computed(() => {
  if (differ.value) return 'The two new passwords differ: type the same one twice.'
  return problem.value?.errors?.[0]?.remedy ?? problem.value?.detail
})

async function set(): Promise<void> {
  if (again.value !== fresh.value) return
  const body = { current: current.value, new: fresh.value }
  if (!(await run('set', () => answer(api.PUT('/api/v1/account/password', { body }))))) return
  await session.renew()
  await router.push(ownAddress(route.query.next))
}
</script>

<template>
  <DoorForm
    :intro="`Welcome, ${session.current?.name ?? ''}. Set a password of your own: 10 characters or more.`"
    :action="busy ? 'Setting …' : 'Set the password'"
    :busy="busy !== '' || differ"
    :trouble="trouble"
    @submit="set"
  >
    <label
      >One-time password<input
        v-model="current"
        name="current"
        type="password"
        autocomplete="current-password"
        required
        autofocus
    /></label>
    <label
      >New password<input
        v-model="fresh"
        name="new"
        type="password"
        autocomplete="new-password"
        minlength="10"
        required
    /></label>
    <label
      >New password, once more<input
        v-model="again"
        name="again"
        type="password"
        autocomplete="new-password"
        required
    /></label>
  </DoorForm>
</template>
