<template>
  <b class="severity" :data-severity="severity">{{ t(`severity.${severity}`) }}</b>
</template>

<script lang="ts" setup>
import { t } from '../words/t'
import type { Finding } from '../api/client'

defineProps<{ severity: Finding['severity'] }>()
</script>

<style scoped>
.severity { white-space: nowrap; }
[data-severity='fault'] { color: var(--faulty); }
[data-severity='risk'] { color: var(--at-risk); }
</style>
