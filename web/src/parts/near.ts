import { useEffect, useState, type RefObject } from "react";

/** useNear is false until an element is nearly visible, and true from then on. */
export function useNear(at: RefObject<HTMLElement | null>, margin = "800px"): boolean {
  const [near, setNear] = useState(false);
  useEffect(() => {
    if (!at.current) return;
    const watch = new IntersectionObserver(
      (seen) => {
        if (seen.some((s) => s.isIntersecting)) {
          setNear(true);
          watch.disconnect();
        }
      },
      { rootMargin: margin },
    );
    watch.observe(at.current);
    return () => watch.disconnect();
  }, [at, margin]);
  return near;
}
