/** A chart of ECharts in an element: there as long as the element is, and as large. */
import { type EChartsType, init } from "echarts/core";
import { onBeforeUnmount, onMounted, type Ref } from "vue";

/** What an option of every chart begins with. */
export const PLAIN = {
  animation: false,
  textStyle: { fontFamily: "'Source Sans 3 Variable', sans-serif", color: "#15181b" },
};

/** Draws once the element is there; call what it gives to draw again. */
export function useChart(
  place: Ref<HTMLDivElement | undefined>,
  draw: (chart: EChartsType) => void,
  made: (chart: EChartsType) => void = () => undefined,
): () => void {
  let chart: EChartsType | null = null;
  let observer: ResizeObserver | undefined;
  onMounted(() => {
    chart = init(place.value!);
    made(chart);
    draw(chart);
    observer = new ResizeObserver(() => chart?.resize());
    observer.observe(place.value!);
  });
  onBeforeUnmount(() => {
    observer?.disconnect();
    chart?.dispose();
    chart = null;
  });
  return () => chart && draw(chart);
}
