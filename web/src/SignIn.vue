<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { Failure } from './api/client'
import BrandMark from './frame/BrandMark.vue'
import { useSession } from './stores/session'

const session = useSession()
const route = useRoute()
const router = useRouter()
const name = ref('')
const password = ref('')
const busy = ref(false)
const trouble = ref('')

async function signIn(): Promise<void> {
  busy.value = true
  trouble.value = ''
  try {
    await session.signIn(name.value, password.value)
    // Only an address of our own: never where a link from elsewhere might lead.
    const next = String(route.query.next ?? '/')
    await router.push(next.startsWith('/') && !next.startsWith('//') ? next : '/')
  } catch (error) {
    if (!(error instanceof Failure)) throw error
    trouble.value = error.problem.detail
    password.value = ''
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div class="page">
    <form @submit.prevent="signIn">
      <h1><BrandMark />Hurnix</h1>
      <p class="muted">
        Where the time of your databases goes, what changed, and whether the advice came true.
      </p>
      <label>Name<input v-model="name" name="name" autocomplete="username" required autofocus /></label>
      <label
        >Password<input
          v-model="password"
          name="password"
          type="password"
          autocomplete="current-password"
          required
      /></label>
      <p v-if="trouble" class="trouble" role="alert">{{ trouble }}</p>
      <button type="submit" :disabled="busy">{{ busy ? 'Signing in …' : 'Sign in' }}</button>
    </form>
  </div>
</template>

<style scoped>
.page {
  height: 100%;
  display: grid;
  place-items: center;
}
form {
  width: 340px;
  background: var(--sheet);
  border: 1px solid var(--rule);
  border-top: 3px solid var(--plum);
  padding: 22px 26px 26px;
}
h1 {
  display: flex;
  gap: 10px;
  align-items: center;
  font-size: 22px;
  margin-bottom: 4px;
}
label {
  display: block;
  margin-top: 12px;
}
input {
  display: block;
  width: 100%;
  font: inherit;
  color: inherit;
  background: var(--paper);
  border: 1px solid var(--muted);
  padding: 6px 8px;
}
button {
  margin-top: 16px;
  width: 100%;
  font: inherit;
  font-weight: 700;
  padding: 7px;
  border: 0;
  background: var(--plum);
  color: var(--on-plum);
  cursor: pointer;
}
.trouble {
  margin: 12px 0 0;
  border-left: 4px solid var(--warn);
  background: var(--warn-wash);
  padding: 6px 8px;
}
</style>
