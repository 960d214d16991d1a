<template>
  <div class="sheet">
    <h2>There is no such page</h2>
    <p>
      The address may be mistyped or cut short.
      <RouterLink :to="{ name: 'instances' }">All instances</RouterLink>
    </p>
  </div>
</template>
