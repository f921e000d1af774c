<template>
  <section class="audit-bar" aria-live="polite">
    <template v-if="audits.running && audits.current">
      <el-progress
        class="progress"
        :percentage="percentage"
        :show-text="false"
        :stroke-width="8"
        :indeterminate="audits.current.visits === 0"
        :aria-label="t('audit.progress')"
      />
      <span class="words">{{ auditWords(audits.current) }}</span>
      <el-button size="small" data-test="cancel-audit" @click="audits.cancel()">{{ t('audit.cancel') }}</el-button>
    </template>
    <template v-else>
      <el-button size="small" data-test="start-audit" @click="audits.start()">{{ t('audit.start') }}</el-button>
      <span class="words">{{ audits.current ? auditWords(audits.current) : t('audit.none') }}</span>
    </template>
    <span v-if="audits.failure" class="failure" role="alert">{{ t('failure.title') }}: {{ audits.failure.words }}</span>
  </section>
</template>

<script lang="ts" setup>
import { computed, onMounted } from 'vue'
import { t } from '../words/t'
import { auditWords } from './audit-words'
import { useAudits } from './audits'

const audits = useAudits()
const percentage = computed(() => {
  const audit = audits.current
  return audit && audit.visits > 0 ? Math.round((100 * audit.done) / audit.visits) : 0
})
onMounted(() => audits.load())
</script>

<style scoped>
.audit-bar { display: flex; align-items: center; gap: 12px; min-height: 28px; }
.progress { width: 180px; flex: none; }
.words { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; font-size: 13px; }
.failure { font-weight: 600; }
</style>
