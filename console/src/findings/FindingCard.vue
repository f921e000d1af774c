<template>
  <article
    class="finding sheet"
    :class="{ passed: finding.waived }"
    :data-severity="finding.severity"
    :data-code="finding.code"
  >
    <p class="top">
      <SeverityWord :severity="finding.severity" />
      <span class="mono">{{ finding.code }}</span>
      <span v-if="since" class="soft since">{{ since }}</span>
    </p>
    <p v-if="place" class="mono place">{{ place }}</p>
    <p class="message">
      {{ finding.message }}
      <span
        v-if="(finding.addresses?.length ?? 0) > 1"
        class="soft"
        >{{ t('findings.on', { addresses: finding.addresses?.join(', ') ?? '' }) }}</span
      >
    </p>
    <p v-if="finding.waived" class="waived" data-test="waived">
      {{ t(finding.waived.by ? 'findings.waivedBy' : 'findings.waived', { by: '', ...finding.waived }) }}
    </p>
    <p class="remedy">
      <b>{{ t('findings.do') }}:</b> {{ finding.remedy }}
    </p>
    <ul v-if="finding.edits?.length" class="settings" data-test="lines">
      <li v-for="edit in finding.edits" :key="edit.server">
        <span class="soft">{{ edit.server }}</span> <code v-if="edit.line" class="mono">{{ edit.line }}</code>
        <span v-if="edit.note" class="edit-note">{{ edit.note }}</span>
      </li>
    </ul>
    <details v-if="missing">
      <summary>{{ t('findings.missing') }}</summary>
      <pre class="mono">{{ missing }}</pre>
      <el-button size="small" @click="handleCopy">{{ copied ? t('findings.copied') : t('findings.copy') }}</el-button>
    </details>
    <details>
      <summary>{{ t('findings.why') }}</summary>
      <p>{{ finding.why }}</p>
      <p class="soft">{{ finding.reference }}</p>
    </details>
    <slot />
  </article>
</template>

<script lang="ts" setup>
import { computed, ref } from 'vue'
import { t } from '../words/t'
import SeverityWord from './SeverityWord.vue'
import type { CardFinding } from './severities'

const props = defineProps<{ finding: CardFinding; place?: string }>()
const copied = ref(false)
const since = computed(() => {
  const { state, first_seen: first } = props.finding
  return state && t('findings.since', { state: t(`state.${state}`), when: first?.slice(0, 10) ?? '' })
})
const missing = computed(() => props.finding.evidence.missing_pem?.join(''))

async function handleCopy() {
  await navigator.clipboard.writeText(missing.value ?? '')
  copied.value = true
}
</script>

<style scoped>
.finding { margin-bottom: 10px; border-left: 4px solid var(--line); }
.finding[data-severity='fault'] { border-left-color: var(--faulty); }
.finding[data-severity='risk'] { border-left-color: var(--at-risk); }
.finding[data-severity='none'] { border-left-color: var(--unreachable); }
p { margin: 0 0 6px; }
.top { display: flex; flex-wrap: wrap; gap: 4px 10px; align-items: baseline; }
.since { margin-left: auto; font-size: 12.5px; }
.message { font-size: 15px; overflow-wrap: anywhere; }
.remedy { overflow-wrap: anywhere; }
.passed { opacity: 0.75; border-left-color: var(--line) !important; }
.waived { font-weight: 600; }
.place { overflow-wrap: anywhere; }
.settings { list-style: none; margin: 0 0 6px; padding: 0; font-size: 13px; }
.settings code { overflow-wrap: anywhere; }
details { margin-top: 4px; font-size: 13px; }
summary { cursor: pointer; color: var(--accent); }
pre { overflow-x: auto; background: var(--wash); padding: 8px; max-height: 220px; }
.edit-note { margin-left: 0.5em; }
</style>
