<template>
  <section :aria-label="t('certificate.title')">
    <h2>{{ t('certificate.title') }}</h2>
    <dl class="sheet">
      <template v-for="row in rows" :key="row.title">
        <dt>{{ row.title }}</dt>
        <dd :class="{ mono: row.mono }">{{ row.value }}</dd>
      </template>
    </dl>
  </section>
</template>

<script lang="ts" setup>
import { computed } from 'vue'
import { t } from '../words/t'
import type { Description } from '../api/client'

const props = defineProps<{ certificate: Description }>()
const rows = computed(() => [
  { title: t('certificate.names'), value: props.certificate.names?.join(', '), mono: false },
  { title: t('certificate.key'), value: props.certificate.key, mono: false },
  { title: t('certificate.signature'), value: props.certificate.signature, mono: false },
  { title: t('certificate.serial'), value: props.certificate.serial, mono: true },
  { title: t('certificate.sha256'), value: props.certificate.sha256, mono: true },
])
</script>

<style scoped>
dl { display: grid; grid-template-columns: max-content minmax(0, 1fr); gap: 4px 16px; margin: 0; }
dt { color: var(--ink-soft); }
dd { margin: 0; overflow-wrap: anywhere; }
</style>
