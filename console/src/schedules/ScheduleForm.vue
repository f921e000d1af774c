<template>
  <el-dialog
    :model-value="true"
    :title="schedule.id ? t('schedules.changeOf', { name: schedule.name ?? '' }) : t('schedules.add')"
    width="620"
    @close="emit('leave')"
  >
    <el-form label-position="top" data-test="schedule-form" @submit.prevent="handleSave">
      <el-form-item :label="t('schedules.name')">
        <el-input v-model="form.name" maxlength="100" autocomplete="off" data-test="name" />
      </el-form-item>
      <el-form-item :label="t('schedules.rhythm')">
        <el-radio-group v-model="form.rhythm">
          <el-radio value="every" data-test="by-hours">{{ t('schedules.every') }}</el-radio>
          <el-radio value="at" data-test="by-times">{{ t('schedules.at') }}</el-radio>
        </el-radio-group>
      </el-form-item>
      <el-form-item v-if="form.rhythm === 'every'" :label="t('schedules.hours')">
        <el-input-number v-model="form.every" :min="1" :max="720" :precision="0" data-test="every" />
      </el-form-item>
      <el-form-item v-else :label="t('schedules.times')">
        <el-input v-model="form.at" placeholder="02:00, 14:00" data-test="at" />
      </el-form-item>
      <el-form-item :label="t('schedules.days')">
        <el-checkbox-group v-model="form.days">
          <el-checkbox v-for="day in days" :key="day" :value="day">{{ t(`day.${day}`) }}</el-checkbox>
        </el-checkbox-group>
      </el-form-item>
      <div class="row">
        <el-form-item :label="t('schedules.zone')">
          <el-select-v2 v-model="form.zone" filterable :options="zones" data-test="zone" />
        </el-form-item>
        <el-form-item :label="t('schedules.quiet')">
          <el-input v-model="form.quiet" placeholder="07:00-09:30" data-test="quiet" />
        </el-form-item>
      </div>
      <div class="row">
        <el-form-item :label="t('schedules.label')">
          <el-input v-model="form.label" placeholder="owner=cranes" data-test="label" />
        </el-form-item>
        <el-form-item :label="t('schedules.spread')">
          <el-input-number v-model="form.spread" :min="0" :max="1440" :step="30" :precision="0" data-test="spread" />
        </el-form-item>
      </div>
      <p v-if="failure" role="alert">{{ failure.words }} {{ failure.details.join('; ') }}</p>
      <el-button native-type="submit" type="primary" :disabled="!form.name.trim() || busy" data-test="save">
        {{ t('schedules.save') }}
      </el-button>
      <el-button @click="emit('leave')">{{ t('findings.leave') }}</el-button>
    </el-form>
  </el-dialog>
</template>

<script lang="ts" setup>
import { reactive, ref } from 'vue'
import { api, ifMatch, result } from '../api/client'
import { t } from '../words/t'
import { days, settingsOf, textsOf } from './settings'
import type { Failure, Schedule } from '../api/client'

const props = defineProps<{ schedule: Partial<Schedule> }>()
const emit = defineEmits<{ done: []; leave: [] }>()
const form = reactive(textsOf(props.schedule, new Intl.DateTimeFormat().resolvedOptions().timeZone))
const failure = ref<Failure>()
const busy = ref(false)
const zones = [...new Set(['UTC', form.zone, ...Intl.supportedValuesOf('timeZone')])].map((value) => ({
  value,
  label: value,
}))

async function handleSave() {
  const body = settingsOf(form, props.schedule.paused)
  const { id, tag } = props.schedule
  busy.value = true
  const answer = id
    ? await result(api.PUT('/api/v1/schedules/{id}', { params: { path: { id }, header: ifMatch(tag) }, body }))
    : await result(api.POST('/api/v1/schedules', { body }))
  busy.value = false
  failure.value = answer.ok ? undefined : answer.failure
  if (answer.ok) emit('done')
}
</script>

<style scoped>
.row { display: grid; grid-template-columns: 1fr 1fr; gap: 0 18px; }
</style>
