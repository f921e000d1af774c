<template>
  <el-dialog :model-value="true" :title="t('many.title')" width="620" @close="emit('leave')">
    <el-form label-position="top" data-test="many-form" @submit.prevent="handlePreview">
      <p class="soft">{{ meant }}</p>
      <el-form-item :label="t('many.ofLabel')">
        <el-input v-model="form.ofLabel" placeholder="owner=cranes" data-test="of-label" />
      </el-form-item>
      <div class="row">
        <el-form-item :label="t('many.policy')">
          <el-select v-model="form.policy" :empty-values="[undefined]" data-test="policy">
            <el-option :value="stays" :label="t('many.stays')" />
            <el-option value="" :label="t('many.usual')" />
            <el-option v-for="name in policies" :key="name" :value="name" :label="name" />
          </el-select>
        </el-form-item>
        <el-form-item :label="t('many.label')">
          <el-input v-model="form.label" placeholder="owner=cranes" data-test="label" />
        </el-form-item>
      </div>
      <el-form-item :label="t('many.owner')">
        <el-input v-model="form.owner" :placeholder="t('many.stays')" data-test="set-owner" />
      </el-form-item>
      <el-form-item :label="t('many.vantages')">
        <el-input v-model="form.vantages" :placeholder="t('many.stays')" data-test="vantages" />
      </el-form-item>
      <p v-if="failure" role="alert">{{ failure.words }} {{ failure.details.join('; ') }}</p>
      <template v-if="preview">
        <p data-test="preview">{{ t('many.would', { changed: preview.changed, matched: preview.matched }) }}</p>
        <ul v-if="preview.items?.length" class="mono soft">
          <li v-for="one in preview.items.slice(0, shown)" :key="one.id">{{ one.before.endpoint }}</li>
          <li v-if="preview.changed > shown">{{ t('many.more', { count: preview.changed - shown }) }}</li>
        </ul>
      </template>
      <el-button v-if="!preview?.changed" native-type="submit" type="primary" :disabled="busy" data-test="look">
        {{ t('many.preview') }}
      </el-button>
      <el-button v-else type="primary" :disabled="busy" data-test="change" @click="handleChange">
        {{ t('many.change') }}
      </el-button>
      <el-button @click="emit('leave')">{{ t('findings.leave') }}</el-button>
    </el-form>
  </el-dialog>
</template>

<script lang="ts" setup>
import { computed, onMounted, reactive, ref, watch } from 'vue'
import { api, result } from '../api/client'
import { t } from '../words/t'
import type { Failure, BulkResult, BulkChange } from '../api/client'
import type { Query } from './use-endpoints'

const props = defineProps<{ of: Pick<Query, 'search' | 'owner' | 'verdict'> }>()
const emit = defineEmits<{ done: []; leave: [] }>()
const stays = '*' // the name of no policy
const shown = 10
const form = reactive({ ofLabel: '', policy: stays, label: '', owner: '', vantages: '' })
const policies = ref<string[]>([])
const preview = ref<BulkResult>()
const failure = ref<Failure>()
const busy = ref(false)

const meant = computed(() => {
  const { search, owner, verdict } = props.of
  if (!search && !owner && !verdict) return form.ofLabel ? t('many.labelled') : t('many.all')
  const parts = [verdict && t(`verdict.${verdict}`), owner, search && `“${search}”`].filter(Boolean)
  return t('many.shown', { what: parts.join(', ') })
})

onMounted(async () => {
  const answer = await result(api.GET('/api/v1/policies'))
  if (answer.ok) policies.value = (answer.value ?? []).map((policy) => policy.name)
})
watch(form, () => (preview.value = undefined))

function change(): BulkChange {
  const { search, owner, verdict } = props.of
  const label = form.ofLabel.trim()
  const filter = {
    ...(search && { q: search }),
    ...(owner && { owner }),
    ...(verdict && { verdict }),
    ...(label && { label }),
  }
  const vantages = form.vantages.split(/[\s,]+/).filter(Boolean)
  const [key, ...value] = form.label.trim().split('=')
  return {
    filter: Object.keys(filter).length ? filter : { all: true },
    set: {
      ...(form.policy !== stays && { policy: form.policy }),
      ...(form.owner.trim() && { owner: form.owner.trim().replace(/^-$/, '') }),
      ...(vantages.length && { vantages: vantages.filter((name) => name !== '-') }),
      ...(key && { labels: { [key]: value.join('=') } }),
    },
  }
}

async function send(body: BulkChange) {
  busy.value = true
  const answer = await result(api.POST('/api/v1/estate/changes', { body }))
  busy.value = false
  failure.value = answer.ok ? undefined : answer.failure
  return answer.ok ? answer.value : undefined
}

async function handlePreview() {
  preview.value = await send({ ...change(), preview: true })
}

async function handleChange() {
  if (await send({ ...change(), tag: preview.value?.tag })) emit('done')
  else preview.value = undefined
}
</script>

<style scoped>
.row { display: grid; grid-template-columns: 1fr 1fr; gap: 0 18px; }
ul { margin: 0 0 12px; padding-left: 18px; }
</style>
