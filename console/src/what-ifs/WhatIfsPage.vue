<template>
  <h1>{{ t('app.whatIf') }}</h1>
  <p class="soft">{{ t('whatIf.what') }}</p>
  <form class="sheet ask" @submit.prevent="handleAsk">
    <div>
      <label for="at">{{ t('whatIf.at') }}</label>
      <input id="at" v-model="form.at" type="date" data-test="at" />
    </div>
    <div>
      <label for="policy">{{ t('whatIf.policy') }}</label>
      <select id="policy" v-model="form.policy" data-test="policy">
        <option value="">{{ t('whatIf.assigned') }}</option>
        <option v-for="policy in policies" :key="policy.name" :value="policy.name">{{ policy.name }}</option>
      </select>
    </div>
    <div class="wide">
      <label for="distrust">{{ t('whatIf.distrust') }}</label>
      <input
        id="distrust"
        v-model="form.distrust"
        class="mono"
        spellcheck="false"
        autocomplete="off"
        data-test="distrust"
      />
    </div>
    <el-button
      native-type="submit"
      :disabled="busy"
      data-test="ask"
      >{{ busy ? t('whatIf.asking') : t('whatIf.ask') }}</el-button
    >
  </form>
  <p v-if="failure" class="sheet" role="alert" data-test="failure">
    {{ failure.words }} {{ failure.details.join('; ') }}
  </p>
  <p v-if="list && !list.length" class="sheet">{{ t('whatIf.none') }}</p>
  <div v-else-if="list" class="sheet listing">
    <table v-folding>
      <thead>
        <tr>
          <th>{{ t('whatIf.asked') }}</th>
          <th>{{ t('whatIf.question') }}</th>
          <th>{{ t('whatIf.appear') }}</th>
          <th>{{ t('whatIf.go') }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="x in list" :key="x.id" data-test="what-if">
          <td class="nowrap">{{ moment(x.created_at) }}</td>
          <td>
            <router-link :to="{ name: 'what-if', params: { id: x.id } }">{{ questionWords(x) }}</router-link>
          </td>
          <td>{{ x.answer?.appear ?? x.state }}</td>
          <td>{{ x.answer?.go }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<script lang="ts" setup>
import { onMounted, reactive, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, result } from '../api/client'
import { vFolding } from '../look/folding'
import { moment, t } from '../words/t'
import { questionOf, questionWords } from './question'
import type { Failure, Policy, WhatIf } from '../api/client'

const router = useRouter()
const form = reactive({ at: '', policy: '', distrust: '' })
const list = ref<WhatIf[]>()
const policies = ref<Policy[]>([])
const failure = ref<Failure>()
const busy = ref(false)

onMounted(async () => {
  const [asked, known] = await Promise.all([result(api.GET('/api/v1/what-ifs')), result(api.GET('/api/v1/policies'))])
  failure.value = asked.ok ? undefined : asked.failure
  if (asked.ok) list.value = asked.value.items ?? []
  if (known.ok) policies.value = known.value ?? []
})

async function handleAsk() {
  const question = questionOf(form)
  failure.value = question ? undefined : { status: 0, words: t('whatIf.nothing'), details: [] }
  if (!question) return
  busy.value = true
  const answer = await result(api.POST('/api/v1/what-ifs', { body: question }))
  busy.value = false
  if (answer.ok) await router.push({ name: 'what-if', params: { id: answer.value.id } })
  else failure.value = answer.failure
}
</script>

<style scoped>
.ask { display: flex; flex-wrap: wrap; gap: 12px 18px; align-items: end; margin-bottom: 14px; }
.ask div { display: grid; gap: 4px; }
.wide { flex: 1; min-width: 260px; }
label { font-size: 12.5px; color: var(--ink-soft); }
input, select {
  font: inherit; color: inherit; background: var(--wash); border: 1px solid var(--line); border-radius: 3px;
  padding: 4px 6px; height: 32px; box-sizing: border-box;
}
input.mono { font-size: 12.5px; }
</style>
