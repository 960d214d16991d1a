<template>
  <svg viewBox="0 0 32 32" width="20" height="20" aria-hidden="true">
    <path d="M3 26h5v-6H3zM10 26h5V12h-5zM17 26h5v-9h-5zM24 26h5V5h-5z" fill="var(--plum)" />
  </svg>
</template>
