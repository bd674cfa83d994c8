/** The width a chart has to draw in. */
import { useLayoutEffect, useRef, useState } from "react";

export function useWidth(): [React.RefObject<HTMLDivElement | null>, number] {
  const element = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  useLayoutEffect(() => {
    const measured = element.current;
    if (!measured) return;
    const observer = new ResizeObserver(() => setWidth(measured.clientWidth));
    observer.observe(measured);
    setWidth(measured.clientWidth);
    return () => observer.disconnect();
  }, []);
  return [element, width];
}
