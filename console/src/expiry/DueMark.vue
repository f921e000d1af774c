<template>
  <span class="mark" :style="{ color: shape.colour }">
    <svg viewBox="0 0 12 12" width="12" height="12" aria-hidden="true">
      <path :d="shape.path" :fill="shape.filled ? 'currentColor' : 'none'" stroke="currentColor" stroke-width="1.6" />
    </svg>
    {{ t(`due.${state}`) }}
  </span>
</template>

<script lang="ts" setup>
import { computed } from 'vue'
import { t } from '../words/t'
import { stateShapes } from './states'
import type { DueState } from './states'

const props = defineProps<{ state: DueState }>()
const shape = computed(() => stateShapes[props.state])
</script>

<style scoped>
.mark { display: inline-flex; align-items: baseline; gap: 6px; white-space: nowrap; font-weight: 600; }
</style>
