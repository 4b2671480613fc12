// Mail shown in a frame that can run nothing, as tall as what it holds needs, up to a bound.
export function sheets() {
  for (const frame of document.querySelectorAll("iframe[data-fit]")) fit(frame);
}

export function fit(frame) {
  const measure = () => {
    try {
      const height = frame.contentDocument?.documentElement?.scrollHeight;
      if (height) frame.style.height = `${Math.min(Math.max(height, 180), 900)}px`;
    } catch {
      // another origin: it keeps its height
    }
  };
  frame.addEventListener("load", measure);
  measure();
}
