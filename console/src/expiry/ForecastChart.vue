<template>
  <div ref="box" class="chart" role="img" :aria-label="t('forecast.title')" data-test="chart" />
</template>

<script lang="ts" setup>
import { BarChart } from 'echarts/charts'
import { GridComponent, LegendComponent, TooltipComponent } from 'echarts/components'
import { init, use } from 'echarts/core'
import { SVGRenderer } from 'echarts/renderers'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { t } from '../words/t'
import type { Forecast } from '../api/client'

use([BarChart, GridComponent, LegendComponent, TooltipComponent, SVGRenderer])

const props = defineProps<{ forecast: Forecast }>()
const box = ref<HTMLElement>()
let chart: ReturnType<typeof init> | undefined

function draw() {
  if (!box.value) return
  chart ??= init(box.value, undefined, { renderer: 'svg' })
  const style = getComputedStyle(box.value)
  const ink = (name: string) => style.getPropertyValue(name).trim()
  const months = props.forecast.months ?? []
  const series = (name: string, of: 'today' | 'coming', color: string, more = {}) => ({
    name,
    type: 'bar' as const,
    data: months.map((m) => m[of]),
    itemStyle: { color, ...more },
    barGap: '0%',
    barCategoryGap: '28%',
  })
  chart.setOption({
    animation: false,
    textStyle: { color: ink('--ink-soft'), fontFamily: style.fontFamily },
    grid: { left: 44, right: 8, top: 34, bottom: 28 },
    legend: { top: 0, left: 0, textStyle: { color: ink('--ink') } },
    tooltip: { trigger: 'axis' },
    xAxis: {
      type: 'category',
      data: months.map((m) => m.month),
      axisLine: { lineStyle: { color: ink('--line') } },
      axisTick: { show: false },
    },
    yAxis: { type: 'value', minInterval: 1, splitLine: { lineStyle: { color: ink('--line') } } },
    series: [
      series(t('forecast.today'), 'today', ink('--accent')),
      series(t('forecast.coming'), 'coming', ink('--sheet'), { borderColor: ink('--at-risk'), borderWidth: 1.5,
        borderType: 'solid' }),
    ],
  })
}
function resize() {
  chart?.resize()
}
/** The theme is a class of the document; the chart copies its colours. */
const theme = new MutationObserver(draw)
onMounted(() => {
  draw()
  theme.observe(document.documentElement, { attributes: true, attributeFilter: ['class'] })
  addEventListener('resize', resize)
})
watch(() => props.forecast, draw, { flush: 'post' })
onBeforeUnmount(() => {
  theme.disconnect()
  removeEventListener('resize', resize)
  chart?.dispose()
})
</script>

<style scoped>
.chart { height: 300px; min-width: 0; }
</style>
