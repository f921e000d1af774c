<template>
  <router-link :to="{ name: 'what-ifs' }">← {{ t('whatIf.back') }}</router-link>
  <p v-if="failure" class="sheet" role="alert">{{ failure.status === 404 ? t('whatIf.gone') : failure.words }}</p>
  <template v-if="view">
    <h1>{{ t('app.whatIf') }}: {{ questionWords(view) }}</h1>
    <p v-if="view.state === 'judging'" class="sheet" aria-live="polite">{{ t('whatIf.asking') }}</p>
    <p v-if="view.state === 'failed'" class="sheet" role="alert">
      {{ t('whatIf.failed', { failure: view.failure ?? '' }) }}
    </p>
    <p v-if="view.answer" data-test="sum">
      {{ t('whatIf.sum', { appear: view.answer.appear, go: view.answer.go, changed: view.changes?.length ?? 0,
        endpoints: view.answer.endpoints }) }}
    </p>
    <p v-if="view.answer?.unseen" class="sheet" data-test="unseen">
      {{ t('whatIf.unseen', { count: view.answer.unseen }) }}
    </p>
    <p v-if="view.answer && !view.changes?.length" class="sheet">{{ t('whatIf.same') }}</p>
    <div v-else-if="view.changes?.length" class="sheet listing">
      <table v-folding>
        <thead>
          <tr>
            <th>{{ t('whatIf.now') }}</th>
            <th>{{ t('whatIf.would') }}</th>
            <th>{{ t('estate.endpoint') }}</th>
            <th>{{ t('whatIf.appear') }}</th>
            <th>{{ t('whatIf.go') }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="change in view.changes" :key="change.endpoint_id" :data-endpoint="change.endpoint">
            <td><VerdictMark :verdict="change.record" /></td>
            <td><VerdictMark :verdict="change.verdict" /></td>
            <td class="endpoint">
              <router-link
                :to="{ name: 'endpoint', params: { id: change.endpoint_id } }"
                >{{ change.endpoint }}</router-link
              >
            </td>
            <td>
              <div v-for="finding in change.appear" :key="finding.code + finding.subject" :title="finding.remedy">
                <span class="mono">{{ finding.code }}</span> <SeverityWord :severity="finding.severity" />
                <span v-if="now(finding, change)" class="soft"> ({{ now(finding, change) }})</span>
                {{ finding.message }}
              </div>
            </td>
            <td>
              <div v-for="finding in gone(change)" :key="finding.code + finding.subject" class="gone">
                <span class="mono">{{ finding.code }}</span> <SeverityWord :severity="finding.severity" />
              </div>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </template>
</template>

<script lang="ts" setup>
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { api, result } from '../api/client'
import SeverityWord from '../findings/SeverityWord.vue'
import VerdictMark from '../look/VerdictMark.vue'
import { vFolding } from '../look/folding'
import { t } from '../words/t'
import { questionWords } from './question'
import type { Failure, WhatIfView } from '../api/client'

const props = defineProps<{ id: number }>()
const view = ref<WhatIfView>()
const failure = ref<Failure>()
const lookAgain = 400 // ms, while it is being judged
type Change = NonNullable<WhatIfView['changes']>[number]
type Some = NonNullable<Change['appear']>[number]

const same = (a: Some, b: Some) => a.code === b.code && a.subject === b.subject

/** How the same finding weighs now, where it weighs otherwise. */
function now(finding: Some, change: Change) {
  const before = change.go?.find((f) => same(f, finding))
  return before && t('whatIf.before', { severity: t(`severity.${before.severity}`) })
}

/** What would go for good, and not come back with another severity. */
const gone = (change: Change) => change.go?.filter((f) => !change.appear?.some((other) => same(other, f)))

let timer: ReturnType<typeof setTimeout> | undefined

async function load() {
  clearTimeout(timer)
  const answer = await result(api.GET('/api/v1/what-ifs/{id}', { params: { path: { id: props.id } } }))
  failure.value = answer.ok ? undefined : answer.failure
  view.value = answer.ok ? answer.value : undefined
  if (view.value?.state === 'judging') timer = setTimeout(load, lookAgain)
}
onMounted(load)
watch(() => props.id, load)
onBeforeUnmount(() => clearTimeout(timer))
</script>

<style scoped>
.endpoint { white-space: nowrap; }
td .mono { font-size: 12px; }
</style>
