<template>
  <section class="compare" :aria-label="t('compare.title')">
    <h2>{{ t('compare.title') }}</h2>
    <form class="sheet choose" @submit.prevent="compare">
      <label v-for="(_, index) in sides" :key="index">{{ t(index ? 'compare.second' : 'compare.first') }}
        <select v-model="sides[index]" :data-test="index ? 'second' : 'first'">
          <option v-for="(input, n) in inputs" :key="n" :value="n">{{ input.name }}</option>
        </select>
      </label>
      <el-button size="small" native-type="submit" :disabled="sides[0] === sides[1]" data-test="compare">
        {{ t('compare.do') }}
      </el-button>
    </form>
    <p v-if="failure" class="sheet" role="alert">{{ failure }}</p>
    <div v-if="result" class="sheet" data-test="compared">
      <p class="sentence"><b>{{ result.sentence }}</b></p>
      <template v-for="(part, index) in parts" :key="index">
        <table v-if="part.rows.length">
          <thead>
            <tr><th /><th>{{ result.first }}</th><th>{{ result.second }}</th></tr>
          </thead>
          <tbody>
            <tr v-for="row in part.rows" :key="row.field" :class="{ differs: !row.same }">
              <th scope="row">{{ row.field }}<span v-if="!row.same" class="mark"> ≠</span></th>
              <td><div v-for="value in row.first ?? []" :key="value">{{ value }}</div></td>
              <td><div v-for="value in row.second ?? []" :key="value">{{ value }}</div></td>
            </tr>
          </tbody>
        </table>
        <ul>
          <li v-for="difference in part.differences" :key="difference.text" :class="{ matters: difference.matters }">
            {{ difference.matters ? '■' : '·' }} {{ difference.text }}
          </li>
        </ul>
      </template>
      <p v-for="unknown in result.unknown" :key="unknown" class="soft">{{ t('compare.unknown', { what: unknown }) }}</p>
    </div>
  </section>
</template>

<script lang="ts" setup>
import { computed, ref, shallowRef, watch } from 'vue'
import { t } from '../words/t'
import type { Compared, Input, Sorter } from './sorter'

const props = defineProps<{ inputs: Input[]; passwords: string[]; sorter: Sorter }>()
const sides = ref<[number, number]>([0, 1])
const result = shallowRef<Compared>()
const failure = ref('')

watch(() => props.inputs, (now) => {
  sides.value = [Math.max(now.length - 2, 0), now.length - 1]
  result.value = undefined
}, { immediate: true })

const parts = computed(() => (result.value ? [...result.value.pairs, result.value] : []))

async function compare() {
  const first = props.inputs[sides.value[0]]
  const second = props.inputs[sides.value[1]]
  if (!first || !second) return
  try {
    result.value = await props.sorter.compare(first, second, props.passwords)
    failure.value = ''
  } catch (error) {
    result.value = undefined
    failure.value = (error as Error).message
  }
}
</script>

<style scoped>
.choose { display: flex; flex-wrap: wrap; gap: 8px 16px; align-items: center; margin-bottom: 10px; }
.choose label { display: inline-flex; gap: 6px; align-items: center; color: var(--ink-soft); }
select {
  font: inherit; color: var(--ink); background: var(--sheet); border: 1px solid var(--line); border-radius: 3px;
  padding: 3px 6px; max-width: 260px;
}
.sentence { margin: 0 0 10px; font-size: 16px; }
table { border-collapse: collapse; width: 100%; table-layout: fixed; margin-top: 8px; }
th, td {
  text-align: left; vertical-align: baseline; padding: 3px 10px 3px 0; border-bottom: 1px solid var(--line);
  overflow-wrap: anywhere;
}
th { font-weight: 600; font-size: 12.5px; color: var(--ink-soft); }
th:first-child { width: 150px; }
.differs td { background: var(--wash); }
.mark { color: var(--ink); }
ul { list-style: none; margin: 8px 0 0; padding: 0; }
.matters { color: var(--faulty); font-weight: 600; }
</style>
