<template>
  <span class="verdict" :data-verdict="verdict">
    <svg viewBox="0 0 12 12" width="12" height="12" aria-hidden="true">
      <path :d="shape.path" :fill="shape.filled ? 'currentColor' : 'none'" stroke="currentColor" stroke-width="1.6" />
    </svg>
    {{ t(`verdict.${verdict}`) }}
    <span v-if="provisional" class="provisional" :title="t('verdict.provisionalWhy')">{{
      t('verdict.provisional')
    }}</span>
  </span>
</template>

<script lang="ts" setup>
import { computed } from 'vue'
import { t } from '../words/t'
import { shapes } from './verdicts'
import type { Verdict } from '../api/client'

const props = defineProps<{ verdict: Verdict; provisional?: boolean }>()
const shape = computed(() => shapes[props.verdict])
</script>

<style scoped>
.verdict { display: inline-flex; align-items: baseline; gap: 6px; white-space: nowrap; font-weight: 600; }
[data-verdict='faulty'] { color: var(--faulty); }
[data-verdict='at-risk'] { color: var(--at-risk); }
[data-verdict='unreachable'] { color: var(--unreachable); }
[data-verdict='sound'] { color: var(--sound); }
.provisional { color: var(--ink-soft); font-size: var(--small, 0.85em); font-weight: 400; }
[data-verdict=''] { color: var(--ink-soft); }
</style>
