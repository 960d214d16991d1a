import { BarChart, LineChart, ScatterChart } from 'echarts/charts'
import { GridComponent } from 'echarts/components'
import { init, use, type EChartsType } from 'echarts/core'
import { SVGRenderer } from 'echarts/renderers'

use([BarChart, LineChart, ScatterChart, GridComponent, SVGRenderer])

/** Draws into an element; as SVG, which prints sharply. Loaded with the first chart of a session. */
export const draw = (element: HTMLElement): EChartsType => init(element, null, { renderer: 'svg' })
