<template>
  <section class="history" :aria-label="t('history.title')">
    <h2>{{ t('history.title') }}</h2>
    <p v-if="failure" class="sheet" role="alert">{{ failure.words }}</p>
    <ol v-if="entries.length" class="sheet">
      <li v-for="(entry, index) in entries" :key="entry.audit_id" data-test="history">
        <p class="when">
          <b>{{ moment(entry.at) }}</b> <span class="soft">{{ t('history.audit', { id: entry.audit_id }) }}</span>
          <VerdictMark :verdict="entry.verdict" />
          <span v-if="entry.before" class="soft">{{ t('history.was', { verdict: t(`verdict.${entry.before}`) }) }}</span>
        </p>
        <p v-if="entry.first">{{ t('history.first') }}</p>
        <p v-for="change in entry.changes" :key="change">{{ change }}</p>
        <p v-if="entry.appeared?.length" class="mono">+ {{ entry.appeared.join(', ') }}</p>
        <p v-if="entry.gone?.length" class="mono soft">− {{ entry.gone.join(', ') }}</p>
        <el-button v-if="index > 0" size="small" data-test="since" @click="compare(entry)">{{
          t('history.since')
        }}</el-button>
        <div v-if="since?.from === entry.audit_id" class="since" data-test="difference" aria-live="polite">
          <p v-if="!since.lines.length">{{ t('history.same') }}</p>
          <p v-for="line in since.lines" :key="line">{{ line }}</p>
        </div>
      </li>
    </ol>
    <el-button v-if="next" size="small" data-test="older" @click="load(next)">{{ t('history.older') }}</el-button>
  </section>
</template>

<script lang="ts" setup>
import { onMounted, ref, watch } from 'vue'
import { api, result } from '../api/client'
import VerdictMark from '../look/VerdictMark.vue'
import { moment, t } from '../words/t'
import type { Failure, HistoryEntry } from '../api/client'

const props = defineProps<{ id: number; audit?: number }>()
const entries = ref<HistoryEntry[]>([])
const next = ref<string>()
const failure = ref<Failure>()
const since = ref<{ from: number; lines: string[] }>() // what is different now from an earlier audit

/** All that is different between that audit and the newest, whatever was in between. */
async function compare(entry: HistoryEntry) {
  const params = { path: { id: props.id }, query: { from: entry.audit_id } }
  const answer = await result(api.GET('/api/v1/endpoints/{id}/history/difference', { params }))
  failure.value = answer.ok ? undefined : answer.failure
  if (!answer.ok) return
  const { before, changes, appeared, gone } = answer.value
  since.value = {
    from: entry.audit_id,
    lines: [
      ...(before ? [t('history.was', { verdict: t(`verdict.${before}`) })] : []),
      ...(changes ?? []),
      ...(appeared ?? []).map((code) => `+ ${code}`),
      ...(gone ?? []).map((code) => `− ${code}`),
    ],
  }
}

async function load(cursor?: string) {
  const asked = props.id
  const params = { path: { id: asked }, query: cursor ? { cursor } : {} }
  const answer = await result(api.GET('/api/v1/endpoints/{id}/history', { params }))
  if (asked !== props.id) return
  failure.value = answer.ok ? undefined : answer.failure
  if (!answer.ok) return
  entries.value = [...(cursor ? entries.value : []), ...(answer.value.items ?? [])]
  next.value = answer.value.next
}
onMounted(() => load())
watch(() => [props.id, props.audit], () => load())
</script>

<style scoped>
.history { margin-top: 18px; }
ol { margin: 0 0 8px; list-style: none; padding-left: 16px; }
li + li { border-top: 1px solid var(--line); margin-top: 8px; padding-top: 8px; }
p { margin: 0 0 4px; overflow-wrap: anywhere; }
.since { margin: 6px 0; padding-left: 10px; border-left: 3px solid var(--line); }
.when { display: flex; flex-wrap: wrap; gap: 4px 10px; align-items: baseline; }
</style>
