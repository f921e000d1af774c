<template>
  <router-link :to="{ name: 'policies' }">← {{ t('policies.back') }}</router-link>
  <p v-if="missing" class="sheet" role="alert">{{ missing.status === 404 ? t('policies.gone') : missing.words }}</p>
  <template v-if="policy">
    <h1>
      {{ policy.name }}
      <span
        class="soft version"
        >{{ policy.builtin ? t('policies.builtin') : `${t('policies.version')} ${policy.version}` }}</span
      >
    </h1>
    <p class="soft">{{ t('policies.used', { endpoints: policy.endpoints, holdings: policy.holdings }) }}</p>
    <p v-if="policy.builtin" class="sheet">{{ t('policies.readonly') }}</p>
    <form @submit.prevent="handleSave">
      <label class="hidden-text" for="policy-text">{{ t('policies.text') }}</label>
      <textarea
        id="policy-text"
        v-model="text"
        class="mono sheet"
        rows="26"
        spellcheck="false"
        :readonly="policy.builtin"
        data-test="text"
      />
      <div v-if="refused" class="sheet defects" role="alert" data-test="defects">
        <p>{{ refused.words }}</p>
        <ul>
          <li v-for="detail in refused.details" :key="detail">{{ detail }}</li>
        </ul>
      </div>
      <p v-if="saved" data-test="saved" aria-live="polite">
        {{ t('policies.saved', { version: policy.version ?? 0 }) }}
      </p>
      <el-button
        v-if="!policy.builtin"
        native-type="submit"
        :disabled="text === policy.text"
        data-test="save"
        >{{ t('policies.save') }}</el-button
      >
    </form>
  </template>
</template>

<script lang="ts" setup>
import { onMounted, ref, watch } from 'vue'
import { api, ifMatch, result } from '../api/client'
import { t } from '../words/t'
import type { Failure, PolicyText } from '../api/client'

const props = defineProps<{ name: string }>()
const policy = ref<PolicyText>()
const text = ref('')
const missing = ref<Failure>()
const refused = ref<Failure>()
const saved = ref(false)

async function load() {
  const answer = await result(api.GET('/api/v1/policies/{name}', { params: { path: { name: props.name } } }))
  missing.value = answer.ok ? undefined : answer.failure
  policy.value = answer.ok ? answer.value : undefined
  text.value = policy.value?.text ?? ''
}
onMounted(load)
watch(() => props.name, load)

async function handleSave() {
  saved.value = false
  const answer = await result(api.PUT('/api/v1/policies/{name}',
    { params: { path: { name: props.name }, header: ifMatch(policy.value?.tag) }, body: { text: text.value } }))
  refused.value = answer.ok ? undefined : answer.failure
  if (!answer.ok) return
  policy.value = answer.value
  saved.value = true
}
</script>

<style scoped>
.version { font-size: 14px; font-weight: 400; }
textarea { width: 100%; color: inherit; font-size: 13px; line-height: 1.5; resize: vertical; margin-bottom: 10px; }
.defects { border-left: 4px solid var(--faulty); margin-bottom: 10px; }
.defects p { margin: 0 0 4px; }
ul { margin: 0; padding-left: 18px; }
</style>
