import { ref } from 'vue'

/** The moment that is read, in milliseconds of the epoch: one for all pictures of a page that have a time axis. */
export const cursor = ref<number | null>(null)
