<template>
  <el-dialog
    :model-value="true"
    :title="of ? t('form.changeOf', { endpoint: of.endpoint }) : t('form.add')"
    width="680"
    @close="emit('leave')"
  >
    <el-form label-position="top" data-test="endpoint-form" @submit.prevent="handleSave">
      <div class="row">
        <el-form-item :label="t('form.endpoint')" required>
          <el-input v-model="form.endpoint" maxlength="300" :placeholder="t('form.example')" data-test="endpoint" />
        </el-form-item>
        <el-form-item :label="t('form.owner')">
          <el-input v-model="form.owner" maxlength="200" data-test="form-owner" />
        </el-form-item>
        <el-form-item :label="t('form.policy')">
          <el-select v-model="form.policy" :empty-values="[undefined]" data-test="form-policy">
            <el-option value="" :label="t('many.usual')" />
            <el-option v-for="name in policies" :key="name" :value="name" :label="name" />
          </el-select>
        </el-form-item>
        <el-form-item :label="t('form.trust')">
          <el-input v-model="form.trust" :placeholder="t('endpoint.system')" data-test="form-trust" />
        </el-form-item>
        <el-form-item :label="t('form.names')">
          <el-input v-model="form.names" :placeholder="t('form.own')" data-test="names" />
        </el-form-item>
        <el-form-item :label="t('form.audiences')">
          <el-input v-model="form.audiences" data-test="audiences" />
        </el-form-item>
        <el-form-item :label="t('form.visitAt')">
          <el-input v-model="form.visitAt" placeholder="192.0.2.7, [2001:db8::7]:8443" data-test="visit-at" />
        </el-form-item>
        <el-form-item :label="t('form.vantages')">
          <el-input v-model="form.vantages" data-test="form-vantages" />
        </el-form-item>
        <el-form-item :label="t('form.schedule')">
          <el-select v-model="form.schedule" :empty-values="[undefined]" data-test="form-schedule">
            <el-option value="" :label="t('form.anySchedule')" />
            <el-option v-for="name in schedules" :key="name" :value="name" :label="name" />
          </el-select>
        </el-form-item>
        <el-form-item :label="t('form.serverName')">
          <el-input v-model="form.serverName" maxlength="253" data-test="server-name" />
        </el-form-item>
        <el-form-item :label="t('form.httpPort')">
          <el-input-number v-model="form.httpPort" :min="1" :max="65535" :precision="0" data-test="http-port" />
        </el-form-item>
        <el-form-item :label="t('form.labels')">
          <el-input v-model="form.labels" type="textarea" :rows="3" placeholder="quay=north" data-test="labels" />
        </el-form-item>
        <el-form-item :label="t('endpoint.notes')">
          <el-input v-model="form.notes" type="textarea" :rows="3" maxlength="4000" data-test="notes" />
        </el-form-item>
      </div>
      <el-checkbox v-model="form.authenticated" data-test="authenticated">{{ t('form.authenticated') }}</el-checkbox>
      <p v-if="failure" role="alert">{{ failure.words }} {{ failure.details.join('; ') }}</p>
      <div>
        <el-button
          native-type="submit"
          type="primary"
          :disabled="!form.endpoint.trim() || busy"
          data-test="save"
        >{{ t('form.save') }}</el-button>
        <el-button @click="emit('leave')">{{ t('findings.leave') }}</el-button>
      </div>
    </el-form>
  </el-dialog>
</template>

<script lang="ts" setup>
import { onMounted, reactive, ref } from 'vue'
import { api, ifMatch, result } from '../api/client'
import { t } from '../words/t'
import { settingsOf, textsOf } from './settings'
import type { Endpoint, Failure } from '../api/client'

const props = defineProps<{ of?: Endpoint }>()
const emit = defineEmits<{ saved: [endpoint: Endpoint]; leave: [] }>()
const form = reactive(textsOf(props.of ?? {}))
const policies = ref<string[]>([])
const schedules = ref<string[]>([])
const failure = ref<Failure>()
const busy = ref(false)

onMounted(async () => {
  const [named, timed] = await Promise.all([
    result(api.GET('/api/v1/policies')),
    result(api.GET('/api/v1/schedules')),
  ])
  if (named.ok) policies.value = (named.value ?? []).map((policy) => policy.name)
  if (timed.ok) schedules.value = (timed.value ?? []).map((schedule) => schedule.name)
})

async function handleSave() {
  busy.value = true
  const body = settingsOf(form)
  const answer = props.of
    ? await result(api.PUT('/api/v1/endpoints/{id}',
      { params: { path: { id: props.of.id }, header: ifMatch(props.of.tag) }, body }))
    : await result(api.POST('/api/v1/endpoints', { body }))
  busy.value = false
  failure.value = answer.ok ? undefined : answer.failure
  if (answer.ok) emit('saved', answer.value)
}
</script>

<style scoped>
.row { display: grid; grid-template-columns: repeat(auto-fit, minmax(260px, 1fr)); gap: 0 18px; }
.row :deep(.el-form-item) { margin-bottom: 12px; }
.el-checkbox { height: auto; margin-bottom: 12px; white-space: normal; }
</style>
