<template>
  <router-link :to="{ name: 'holdings' }">← {{ t('holdings.back') }}</router-link>
  <p v-if="failure" class="sheet" role="alert">{{ failure.status === 404 ? t('holdings.gone') : failure.words }}</p>
  <template v-if="view">
    <header class="head">
      <h1>{{ view.holding.name }}</h1>
      <VerdictMark class="big" :verdict="view.holding.verdict" data-test="verdict" />
    </header>
    <p class="soft">
      {{ t('holdings.line', { files: view.holding.files, sent: moment(view.holding.sent_at),
        judged: moment(view.holding.judged_at), policy: view.holding.policy }) }}
    </p>
    <p v-if="view.holding.failure" class="sheet" role="alert" data-test="failure">
      {{ t('holdings.failure', { reason: view.holding.failure }) }}
    </p>
    <p v-else-if="view.holding.waiting" class="sheet" data-test="waiting">{{ t('holdings.pending') }}</p>
    <div class="columns">
      <section :aria-label="t('findings.title')">
        <h2>{{ t('findings.title') }}</h2>
        <p v-if="!findings.length" class="sheet">{{ t('findings.none') }}</p>
        <FindingCard v-for="finding in findings" :key="finding.id" :finding="finding" :place="finding.path">
          <FindingActions :finding="finding" @changed="load" />
        </FindingCard>
      </section>
      <section :aria-label="t('holdings.filesTitle')">
        <div class="filesHead">
          <h2>{{ t('holdings.filesTitle') }}</h2>
          <button
            v-for="v in fileVerdicts"
            :key="v"
            type="button"
            class="filter"
            :aria-pressed="verdict === v"
            :data-test="`files-${v}`"
            @click="handleFilter(v)"
          >
            <VerdictMark :verdict="v" />
          </button>
        </div>
        <div class="sheet table">
          <table data-test="files">
            <tbody>
              <tr v-for="file in files" :key="file.path">
                <td><VerdictMark :verdict="file.verdict" /></td>
                <td>
                  <span class="mono">{{ file.path }}</span>
                  <span v-for="(thing, index) in file.contents" :key="index" class="soft thing">{{ thing }}</span>
                </td>
              </tr>
            </tbody>
          </table>
        </div>
        <el-button
          v-if="next"
          size="small"
          data-test="more-files"
          @click="loadFiles(true)"
          >{{ t('estate.more') }}</el-button
        >
      </section>
    </div>
  </template>
</template>

<script lang="ts" setup>
import { computed, onMounted, ref, watch } from 'vue'
import { api, result } from '../api/client'
import { useAudits } from '../audits/audits'
import FindingActions from '../findings/FindingActions.vue'
import FindingCard from '../findings/FindingCard.vue'
import VerdictMark from '../look/VerdictMark.vue'
import { moment, t } from '../words/t'
import type { Failure, HoldingFile, HoldingView } from '../api/client'

const fileVerdicts = ['faulty', 'at-risk', 'sound'] as const
const props = defineProps<{ id: number }>()
const audits = useAudits()
const view = ref<HoldingView>()
const files = ref<HoldingFile[]>([])
const next = ref('')
const verdict = ref<(typeof fileVerdicts)[number]>()
const failure = ref<Failure>()
const findings = computed(() => view.value?.findings ?? [])

async function load() {
  const answer = await result(api.GET('/api/v1/holdings/{id}', { params: { path: { id: props.id } } }))
  failure.value = answer.ok ? undefined : answer.failure
  view.value = answer.ok ? answer.value : undefined
  if (answer.ok) await loadFiles(false)
}
async function loadFiles(more: boolean) {
  const query = { limit: 100, verdict: verdict.value, cursor: more ? next.value : undefined }
  const answer = await result(api.GET('/api/v1/holdings/{id}/files', { params: { path: { id: props.id }, query } }))
  if (!answer.ok) {
    failure.value = answer.failure
    return
  }
  files.value = [...(more ? files.value : []), ...(answer.value.items ?? [])]
  next.value = answer.value.next ?? ''
}
async function handleFilter(value: (typeof fileVerdicts)[number]) {
  verdict.value = verdict.value === value ? undefined : value
  await loadFiles(false)
}
onMounted(load)
watch(() => [props.id, audits.ended], load)
</script>

<style scoped>
.head { display: flex; flex-wrap: wrap; align-items: center; gap: 8px 18px; margin: 6px 0 6px; }
.big { font-size: 16px; }
.columns { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); gap: 20px 24px; align-items: start; }
.filesHead { display: flex; gap: 6px; align-items: baseline; }
.filesHead h2 { margin-right: auto; }
.table { padding: 0; margin-bottom: 8px; }
table { border-collapse: collapse; width: 100%; }
td { padding: 4px 12px; border-bottom: 1px solid var(--line); vertical-align: baseline; overflow-wrap: anywhere; }
tbody tr:last-child td { border-bottom: 0; }
.thing { display: block; font-size: 12.5px; }
@media (max-width: 900px) { .columns { grid-template-columns: minmax(0, 1fr); } }
</style>
