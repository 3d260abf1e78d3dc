// Reports one page view: what is known shortly after load, and all that is known when the page is
// hidden. Each beacon repeats the earlier facts under the same id with a higher seq, so losing one
// loses nothing but freshness, and the last one wins.
(function () {
  var tag = document.currentScript || document.querySelector('script[data-site]');
  // Pages driven by a program (our own runners among them) are not visitors.
  if (!tag || navigator.webdriver) return;
  var target = new URL('/collect/' + encodeURIComponent(tag.dataset.site), tag.src).href;

  // crypto.randomUUID exists only on secure pages; random bytes exist on all.
  function id() {
    var b = crypto.getRandomValues(new Uint8Array(16));
    b[6] = (b[6] & 15) | 64;
    b[8] = (b[8] & 63) | 128;
    var h = Array.prototype.map.call(b, function (x) { return (x + 256).toString(16).slice(1); }).join('');
    return h.replace(/(.{8})(.{4})(.{4})(.{4})(.{12})/, '$1-$2-$3-$4-$5');
  }

  // A visit lasts as long as its tab: no cookie, nothing that follows a person.
  function visit() {
    var key = 'cadentis-visit', held = null;
    try { held = sessionStorage.getItem(key); } catch (e) { /* storage switched off */ }
    if (!held) {
      held = id();
      try { sessionStorage.setItem(key, held); } catch (e) { /* one page, one visit then */ }
    }
    return held;
  }

  function device() {
    var wide = Math.min(screen.width, screen.height);
    if (!matchMedia('(pointer: coarse)').matches) return 'desktop';
    return wide < 600 ? 'phone' : 'tablet';
  }

  var view = {
    id: id(), seq: 0, at: Math.round(performance.timeOrigin), visit: visit(), url: location.href.split(/[?#]/)[0],
    device: device(), connection: (navigator.connection && navigator.connection.effectiveType) || '',
    errors: 0, abandoned: false, blank: false
  };
  var changed = true, painted = false;

  function set(name, value) {
    if (typeof value === 'number' && isFinite(value) && value >= 0) {
      view[name] = Math.round(value * 1e4) / 1e4;
      changed = true;
    }
  }

  webVitals.onTTFB(function (m) { set('ttfb', m.value); });
  webVitals.onFCP(function (m) { painted = true; set('fcp', m.value); });
  webVitals.onLCP(function (m) { set('lcp', m.value); }, { reportAllChanges: true });
  webVitals.onCLS(function (m) { set('cls', m.value); }, { reportAllChanges: true });
  webVitals.onINP(function (m) { set('inp', m.value); }, { reportAllChanges: true });

  addEventListener('error', function (e) {
    if (!(e instanceof ErrorEvent)) return;
    view.errors++;
    view.error = view.error || String(e.message).slice(0, 300);
    changed = true;
  });
  addEventListener('unhandledrejection', function (e) {
    view.errors++;
    view.error = view.error || String(e.reason).slice(0, 300);
    changed = true;
  });

  function navigation() {
    var n = performance.getEntriesByType('navigation')[0];
    if (!n) return;
    if (n.loadEventEnd > 0) set('load', n.loadEventEnd);
    if (n.connectEnd > n.connectStart) {
      set('dns', n.domainLookupEnd - n.domainLookupStart);
      set('connect', n.connectEnd - n.connectStart);
    }
  }

  function send(leaving) {
    navigation();
    if (leaving) {
      view.abandoned = document.readyState !== 'complete' && !view.load;
      view.blank = !painted && !performance.getEntriesByName('first-contentful-paint').length;
    }
    if (!changed && view.seq > 0) return;
    changed = false;
    view.seq++;
    view.sent = Date.now();
    try {
      // A Blob of text/plain needs no permission from the other origin.
      navigator.sendBeacon(target, new Blob([JSON.stringify(view)], { type: 'text/plain' }));
    } catch (e) { /* nothing to be done, and the page must not notice */ }
  }

  addEventListener('visibilitychange', function () { if (document.visibilityState === 'hidden') send(true); }, true);
  addEventListener('pagehide', function () { send(true); }, true);
  // At load, but behind everything the page itself does then.
  function afterLoad() { setTimeout(function () { send(false); }, 1500); }
  if (document.readyState === 'complete') afterLoad(); else addEventListener('load', afterLoad);
})();
