// Runs before the page's own code, in a world of its own: remembers what the browser reports.
() => {
  const seen = { lcp: 0, shifts: [], long: [], events: [] };
  globalThis.seen = seen;
  const observe = (type, take) => {
    try {
      new PerformanceObserver((list) => list.getEntries().forEach(take)).observe({ type, buffered: true, durationThreshold: 16 });
    } catch (e) { /* an entry type this browser does not know */ }
  };
  observe('largest-contentful-paint', (e) => { seen.lcp = e.startTime; });
  observe('layout-shift', (e) => { seen.shifts.push([e.startTime, e.value, e.hadRecentInput]); });
  observe('longtask', (e) => { seen.long.push([e.startTime, e.duration]); });
  observe('event', (e) => { if (e.interactionId) seen.events.push([e.interactionId, e.startTime, e.duration]); });
}
