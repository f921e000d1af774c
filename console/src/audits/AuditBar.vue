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
      <span class="words" :title="words">{{ words }}</span>
      <el-button v-if="session.may('auditor')" size="small" data-test="cancel-audit" @click="audits.cancel()">{{
        t('audit.cancel')
      }}</el-button>
      <el-button
        v-if="!audits.waited && session.may('auditor')"
        size="small"
        data-test="start-audit"
        @click="audits.start()"
        >{{ t('audit.start') }}</el-button
      >
    </template>
    <template v-else>
      <el-button v-if="session.may('auditor')" size="small" data-test="start-audit" @click="audits.start()">{{
        t('audit.start')
      }}</el-button>
      <span class="words" :title="words">{{ words }}</span>
    </template>
    <details v-if="unexamined.length" class="unexamined" data-test="unexamined">
      <summary>{{ t('audit.unexamined', { count: unexamined.length }) }}</summary>
      <ul>
        <li v-for="one in unexamined" :key="one.target">
          <span class="mono">{{ one.target }}</span>: {{ one.unexamined }}
        </li>
      </ul>
    </details>
    <span v-if="audits.failure" class="failure" role="alert">{{ t('failure.title') }}: {{ audits.failure.words }}</span>
  </section>
</template>

<script lang="ts" setup>
import { computed, onMounted, onUnmounted } from 'vue'
import { useSession } from '../people/session'
import { t } from '../words/t'
import { auditWords } from './audit-words'
import { useAudits } from './audits'

const audits = useAudits()
const session = useSession()
const percentage = computed(() => {
  const audit = audits.current
  return audit && audit.visits > 0 ? Math.round((100 * audit.done) / audit.visits) : 0
})
const words = computed(() => (audits.current ? auditWords(audits.current) : t('audit.none')))
const unexamined = computed(() => audits.current?.unexamined ?? [])
// Schedules begin audits that nobody here has started.
let timer: ReturnType<typeof setInterval> | undefined
onMounted(() => {
  void audits.load()
  timer = setInterval(() => audits.running || void audits.load(), 30_000)
})
onUnmounted(() => clearInterval(timer))
</script>

<style scoped>
.audit-bar { display: flex; align-items: center; gap: 12px; min-height: 28px; }
.progress { width: 180px; flex: none; }
.words { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; font-size: 13px; }
.failure { font-weight: 600; }
.unexamined { position: relative; font-size: 13px; }
.unexamined summary { cursor: pointer; white-space: nowrap; }
.unexamined ul {
  position: absolute; z-index: 10; right: 0; width: 480px; max-height: 320px; overflow: auto;
  margin: 6px 0; padding: 10px 10px 10px 26px;
  color: var(--el-text-color-primary); background: var(--el-bg-color-overlay);
  border: 1px solid var(--el-border-color); border-radius: 6px;
}
</style>
