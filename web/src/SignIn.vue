<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useAction } from './composables/useAction'
import DoorForm from './people/DoorForm.vue'
import { ownAddress } from './people/ownAddress'
import { useSession } from './stores/session'

const session = useSession()
const route = useRoute()
const router = useRouter()
const name = ref('')
const password = ref('')
const { busy, problem, run } = useAction()

async function signIn(): Promise<void> {
  if (!(await run('sign in', () => session.signIn(name.value, password.value)))) {
    password.value = ''
    return
  }
  await router.push(ownAddress(route.query.next))
}
</script>

<template>
  <DoorForm
    intro="Where the time of your databases goes, what changed, and whether the advice came true."
    :action="busy ? 'Signing in …' : 'Sign in'"
    :busy="busy !== ''"
    :trouble="problem?.detail"
    @submit="signIn"
  >
    <label>Name<input v-model="name" name="name" autocomplete="username" required autofocus /></label>
    <label
      >Password<input
        v-model="password"
        name="password"
        type="password"
        autocomplete="current-password"
        required
    /></label>
  </DoorForm>
</template>
