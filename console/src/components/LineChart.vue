<script setup lang="ts">
import { Chart, Filler, LinearScale, LineController, LineElement, PointElement, Tooltip, type ChartConfiguration, type ChartDataset } from 'chart.js'
import { onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'

/** Lines over time. The same figures stand in words or in a table beside it; the picture is for the eye. */
export interface Line {
  label: string
  points: { x: number; y: number | null; note?: string }[]
  colour: string
  fill?: boolean
  step?: boolean
  dashed?: boolean
  dots?: boolean
  right?: boolean
}
const props = defineProps<{ label: string; lines: Line[]; left: string; right?: string; top?: number; height?: number }>()

Chart.register(LineController, LineElement, PointElement, LinearScale, Filler, Tooltip)
const canvas = ref<HTMLCanvasElement>()
const chart = shallowRef<Chart>()
/** A colour of the page's theme, as it is now. */
const themed = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim()
const when = (at: number) => new Intl.DateTimeFormat('en-GB', { weekday: 'short', day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' }).format(at)
const hour = (at: number) => new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit' }).format(at)
const day = (at: number) => new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short' }).format(at)
const share = (value: number) => `${(value * 100).toLocaleString('en', { maximumFractionDigits: value < 0.1 ? 2 : 0 })} %`

/** Where the axis is marked: at midnights, some days apart when there are many, at the ends when there is none. */
function midnights(from: number, to: number): number[] {
  const found: number[] = []
  const next = new Date(from)
  next.setHours(24, 0, 0, 0)
  const step = Math.max(1, Math.ceil((to - from) / 86_400_000 / 9))
  while (next.getTime() <= to) {
    found.push(next.getTime())
    next.setDate(next.getDate() + step)
  }
  return found.length ? found : [from, to]
}
function drawn(): ChartConfiguration<'line'> {
  const soft = themed('--soft')
  const grid = { color: themed('--line') }
  const at = props.lines.flatMap((line) => line.points.map((point) => point.x))
  const [min, max] = [Math.min(...at), Math.max(...at)]
  const datasets: ChartDataset<'line', { x: number; y: number | null; note?: string }[]>[] = props.lines.map((line) => ({
    label: line.label, data: line.points, borderColor: themed(line.colour), backgroundColor: line.fill ? `color-mix(in srgb, ${themed(line.colour)} 30%, transparent)` : themed(line.colour),
    fill: line.fill ? 'origin' : false, stepped: line.step ? 'before' : false, borderDash: line.dashed ? [6, 4] : [], borderWidth: line.dots ? 0 : 2, showLine: !line.dots,
    pointRadius: line.dots ? 6 : 0, pointHoverRadius: line.dots ? 8 : 4, pointStyle: 'rectRot', clip: line.dots ? 10 : undefined, yAxisID: line.right ? 'right' : 'left', spanGaps: true, order: line.fill ? 2 : 1,
  }))
  return {
    type: 'line',
    data: { datasets },
    options: {
      animation: false, responsive: true, maintainAspectRatio: false, interaction: { mode: 'nearest', axis: 'x', intersect: false },
      scales: {
        x: { type: 'linear', min, max, grid: { display: false }, afterBuildTicks: (axis) => (axis.ticks = midnights(min, max).map((value) => ({ value }))), ticks: { color: soft, callback: (value) => (max - min < 172_800_000 ? `${day(Number(value))} ${hour(Number(value))}` : day(Number(value))) } },
        left: { position: 'left', min: 0, max: props.top, grid, title: { display: true, text: props.left, color: soft }, ticks: { color: soft, callback: (value) => share(Number(value)) } },
        ...(props.right ? { right: { position: 'right' as const, min: 0, grid: { display: false }, title: { display: true, text: props.right, color: soft }, ticks: { color: soft, callback: (value: number | string) => share(Number(value)) } } } : {}),
      },
      plugins: { tooltip: { callbacks: { title: (items) => when(Number(items[0]?.parsed.x)), label: (item) => (item.raw as { note?: string }).note ?? `${item.dataset.label}: ${share(Number(item.parsed.y))}` } } },
    },
  }
}
function draw(): void {
  chart.value?.destroy()
  if (canvas.value) chart.value = new Chart(canvas.value, drawn() as ChartConfiguration)
}
const scheme = new MutationObserver(draw)
onMounted(() => {
  draw()
  scheme.observe(document.documentElement, { attributes: true, attributeFilter: ['data-bs-theme'] })
})
watch(() => props.lines, draw)
onBeforeUnmount(() => {
  scheme.disconnect()
  chart.value?.destroy()
})
</script>

<template>
  <div class="chart" :style="{ height: `${height ?? 190}px` }"><canvas ref="canvas" role="img" :aria-label="label" /></div>
</template>

<style scoped>
.chart { position: relative; width: 100%; }
</style>
