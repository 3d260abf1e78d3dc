// Reports page views: what is known shortly after load, and all that is known when the page is hidden. Each beacon
// repeats the earlier facts under the same id with a higher seq, so losing one loses nothing but freshness, and the last
// one wins. `settings` come from the tag or from the site's own copy of this script.
function measure(settings) {
  var nothing = function () {}, api = {};
  ['attribute', 'number', 'event', 'action', 'route', 'person', 'consent'].forEach(function (name) { api[name] = nothing; });
  // Pages driven by a program (our own runners among them) are not visitors; who asks not to be followed is not.
  if (!settings.site || navigator.webdriver) return api;
  // What need not be done while the page loads is done when the browser has nothing better to do; what happened before
  // is told all the same, since browsers keep it.
  function later(f) { if (window.requestIdleCallback) requestIdleCallback(f, { timeout: 1000 }); else setTimeout(f, 1); }
  var target, MOST = 60, now = function () { return performance.now(); };

  // crypto.randomUUID exists only on secure pages; random bytes exist on all.
  function hex(bytes) {
    return Array.prototype.map.call(crypto.getRandomValues(new Uint8Array(bytes)), function (x) {
      return (x + 256).toString(16).slice(1);
    }).join('');
  }
  function id() {
    var h = hex(16);
    h = h.slice(0, 12) + '4' + h.slice(13, 16) + '8' + h.slice(17);
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
    if (!matchMedia('(pointer: coarse)').matches) return 'desktop';
    return Math.min(screen.width, screen.height) < 600 ? 'phone' : 'tablet';
  }

  // The query is cut but for the names that the site keeps.
  function address(url) {
    var u;
    try { u = new URL(url, location.href); } catch (e) { return String(url).split(/[?#]/)[0]; }
    var kept = (settings.keep || []).filter(function (n) { return u.searchParams.has(n); }).map(function (n) {
      return encodeURIComponent(n) + '=' + encodeURIComponent(u.searchParams.get(n));
    });
    return u.origin + u.pathname + (kept.length ? '?' + kept.join('&') : '');
  }

  // What an element is called: what the page calls it, or its tag with what tells it apart. Never its text.
  function called(element) {
    if (!element || !element.tagName) return '';
    var own = element.closest && element.closest('[data-cadentis-action]');
    if (own) return own.getAttribute('data-cadentis-action').slice(0, 80);
    var tag = element.tagName.toLowerCase(), role = element.getAttribute('role');
    var name = element.getAttribute('name'), kind = String(element.getAttribute('class') || '').trim().split(/\s+/)[0];
    if (element.id) return (tag + '#' + element.id).slice(0, 80);
    if (name) return (tag + '[name=' + name + ']').slice(0, 80);
    if (kind) return (tag + '.' + kind).slice(0, 80);
    if (role) return tag + '[role=' + role + ']';
    var above = element.parentElement && element.parentElement !== document.body ? called(element.parentElement) : '';
    return (above ? above + ' > ' : '') + tag;
  }

  var loaded = document.readyState === 'complete';
  addEventListener('load', function () { loaded = true; });
  var view, changed, painted, origin, pending, lastAction, attributes = {}, numbers = {}, person = '';
  var allowed = settings.consent !== 'wait' && !navigator.globalPrivacyControl;
  var held, sampled;
  // Who this is a view of, once something is to be said of it.
  function know() {
    if (!held) {
      target = new URL('/beacons/' + encodeURIComponent(settings.site), (settings.tag && settings.tag.src) || settings.server).href;
      held = visit();
      // The share of visits that is sampled is drawn from the visit's own id: all pages of it or none.
      sampled = parseInt(held.slice(0, 8), 16) / 4294967296 < (settings.sample === undefined ? 1 : Number(settings.sample));
    }
    if (view.id) return;
    view.id = id();
    view.at = Math.round(performance.timeOrigin + origin);
    if (!origin) view.how = arrived();
    view.url = address(view.url);
    view.visit = held;
    view.device = device();
    view.connection = (navigator.connection && navigator.connection.effectiveType) || '';
  }

  // How the page came here.
  function arrived() {
    var entry = performance.getEntriesByType('navigation')[0];
    if (document.prerendering || (entry && entry.activationStart > 0)) return 'prerender';
    return entry && entry.type !== 'navigate' ? entry.type.replace('_', '-') : '';
  }

  function begin(how, at) {
    origin = at;
    pending = 0;
    lastAction = null;
    painted = how === 'soft' || how === 'restored';
    changed = true;
    view = {
      seq: 0, url: location.href, how: how, errors: 0, abandoned: false, blank: false, background: document.visibilityState === 'hidden',
      release: settings.release || '', happened: []
    };
  }

  function set(name, value) {
    if (typeof value === 'number' && isFinite(value) && value >= 0) {
      view[name] = Math.round(value * 1e4) / 1e4;
      changed = true;
    }
  }
  function tell(what, name, more) {
    if (view.happened.length >= MOST) return null;
    var one = { what: what, at: Math.max(0, Math.round(now() - origin)), name: String(name).slice(0, 300) };
    for (var k in more) if (more[k] !== undefined && more[k] !== '' && more[k] !== null) one[k] = more[k];
    view.happened.push(one);
    changed = true;
    return one;
  }
  // What begins within a second of an action was led to by it.
  function by() { return lastAction && now() - lastAction.when < 1000 ? lastAction.nth : undefined; }

  begin('', 0);

  var watching = false;
  function watch() {
    if (watching) return;
    watching = true;
    var webVitals = vitals();
    var named = { generateTarget: function (node) { return called(node) || undefined; }, reportAllChanges: true };
    webVitals.onTTFB(function (m) { set('ttfb', m.value); });
    webVitals.onFCP(function (m) { painted = true; view.blank = false; set('fcp', m.value); });
    webVitals.onLCP(function (m) {
      var a = m.attribution;
      set('lcp', m.value);
      view.lcp_element = String(a.target || '').slice(0, 120);
      set('lcp_delay', a.resourceLoadDelay);
      set('lcp_fetch', a.resourceLoadDuration);
      set('lcp_render', a.elementRenderDelay);
    }, named);
    webVitals.onCLS(function (m) {
      set('cls', m.value);
      view.cls_element = String(m.attribution.largestShiftTarget || '').slice(0, 120);
    }, named);
    webVitals.onINP(function (m) {
      var script = m.attribution.longestScript && m.attribution.longestScript.entry;
      set('inp', m.value);
      view.inp_element = String(m.attribution.interactionTarget || '').slice(0, 120);
      view.inp_script = script ? address(script.sourceURL || '') + ' ' + (script.sourceFunctionName || '') : '';
    }, named);

    // Frames that kept the page busy before it had loaded.
    try {
      new PerformanceObserver(function (list) {
        list.getEntries().forEach(function (e) {
          if (!view.load || e.startTime < view.load) set('long_frames', (view.long_frames || 0) + e.duration);
        });
      }).observe({ type: 'long-animation-frame', buffered: true });
    } catch (e) { /* not every browser has them */ }
  }
  later(function () { watch(); know(); keepTime(); });

  function wrong(what, text, stack) {
    if (what === 'error') {
      view.errors++;
      view.error = view.error || String(text).slice(0, 300);
    }
    tell(what, text, { stack: String(stack || '').slice(0, 900), by: by() });
  }
  addEventListener('error', function (e) {
    if (e instanceof ErrorEvent) return wrong('error', e.message, e.error && e.error.stack);
    var from = e.target && (e.target.currentSrc || e.target.src || e.target.href);
    if (from) tell('resource', address(from), { status: 0, offline: navigator.onLine === false || undefined });
  }, true);
  addEventListener('unhandledrejection', function (e) { wrong('error', e.reason, e.reason && e.reason.stack); });
  var said = console.error;
  console.error = function () {
    try { wrong('console', Array.prototype.map.call(arguments, String).join(' ')); } catch (e) { /* never in the way */ }
    return said.apply(console, arguments);
  };

  addEventListener('click', function (e) {
    var pressed = e.target.closest && e.target.closest('button, a, input, select, summary, label, [role=button], [data-cadentis-action]');
    if (pressed) act(called(pressed));
  }, true);
  function act(name) {
    if (tell('action', name)) lastAction = { nth: view.happened.length - 1, when: now() };
  }

  // Requests of the page's own scripts.
  function traced(url) {
    try { return (settings.trace || []).indexOf(new URL(url, location.href).origin) >= 0; } catch (e) { return false; }
  }
  function asked(url, method) {
    var at = view, began = now(), led = by(), ours = traced(url) ? hex(16) : '';
    pending++;
    return {
      traceparent: ours && '00-' + ours + '-' + hex(8) + '-01',
      answered: function (status, code) {
        // The page that asked is gone, or another view has begun.
        if (view !== at) return;
        pending--;
        // The browser's own account of it comes a little later.
        setTimeout(function () {
          if (view !== at) return;
          var full = String(new URL(url, location.href)), mine = performance.getEntriesByName(full).filter(function (e) {
            return e.startTime >= began - 5;
          })[0];
          var server = mine && (mine.serverTiming || []).filter(function (t) { return t.name === 'traceparent'; })[0];
          var trace = server ? server.description.split('-')[1] : ours;
          if (mine && mine.responseStatus && !status) status = mine.responseStatus;
          var one = tell('request', address(url), {
            method: method, status: status, ms: Math.round(10 * (mine ? mine.duration : now() - began)) / 10,
            bytes: mine ? mine.transferSize : undefined, code: code, by: led,
            trace: /^[0-9a-f]{32}$/.test(trace) ? trace : '', offline: (!status && navigator.onLine === false) || undefined
          });
          if (one) one.at = Math.max(0, Math.round(began - origin));
        }, 30);
      }
    };
  }
  // An error code looks like one; nothing else of an answer is read, and only of answers that failed.
  function code(data) {
    try { data = typeof data === 'string' ? JSON.parse(data) : data; } catch (e) { return ''; }
    var found = data && (data.code || data.error);
    return typeof found === 'string' && /^[A-Za-z][A-Za-z0-9_.-]{1,39}$/.test(found) ? found : '';
  }
  if (window.fetch) {
    var fetched = window.fetch;
    window.fetch = function (what, how) {
      var mine = null;
      try {
        var url = typeof what === 'string' || what instanceof URL ? String(what) : what.url;
        mine = asked(url, ((how && how.method) || what.method || 'GET').toUpperCase());
        if (mine.traceparent) {
          var headers = new Headers((how && how.headers) || (what instanceof Request ? what.headers : {}));
          if (!headers.has('traceparent')) headers.set('traceparent', mine.traceparent);
          how = Object.assign({}, how, { headers: headers });
        }
      } catch (e) { mine = null; }
      var answer = fetched.call(window, what, how);
      if (mine) answer.then(function (r) {
        var json = r.status >= 400 && /json/.test(r.headers.get('content-type') || '');
        if (!json) return mine.answered(r.status, '');
        r.clone().text().then(function (t) { mine.answered(r.status, code(t)); }, function () { mine.answered(r.status, ''); });
      }, function () { mine.answered(0, ''); });
      return answer;
    };
  }
  var open = XMLHttpRequest.prototype.open, send = XMLHttpRequest.prototype.send;
  XMLHttpRequest.prototype.open = function (method, url) {
    this.__cadentis = [url, String(method).toUpperCase()];
    return open.apply(this, arguments);
  };
  XMLHttpRequest.prototype.send = function () {
    try {
      var xhr = this, mine = asked.apply(null, xhr.__cadentis);
      if (mine.traceparent) xhr.setRequestHeader('traceparent', mine.traceparent);
      xhr.addEventListener('loadend', function () {
        var text = xhr.status >= 400 && (xhr.responseType === '' || xhr.responseType === 'text') ? xhr.responseText : '';
        mine.answered(xhr.status, text && code(text));
      });
    } catch (e) { /* never in the way */ }
    return send.apply(this, arguments);
  };

  // The slowest resources, and the slowest one of each other host.
  function resources() {
    know();
    // What we ourselves asked for is nobody's.
    var hosts = {}, foreign = 0, mine = new URL(target).origin;
    var all = performance.getEntriesByType('resource').filter(function (e) {
      return !/^(fetch|xmlhttprequest|beacon)$/.test(e.initiatorType) && e.duration > 0 && e.name.indexOf(target) &&
        (mine === location.origin || e.name.indexOf(mine + '/'));
    });
    all.sort(function (a, b) { return b.duration - a.duration; });
    all.filter(function (e, i) {
      var host = new URL(e.name, location.href).hostname, first = host !== location.hostname && !hosts[host] && foreign < 8;
      if (first) foreign++;
      hosts[host] = true;
      return i < 6 || first;
    }).forEach(function (e) {
      var one = tell('resource', address(e.name), {
        ms: Math.round(10 * e.duration) / 10, bytes: e.transferSize || e.encodedBodySize || undefined, status: e.responseStatus || undefined
      });
      if (one) one.at = Math.round(e.startTime);
    });
  }

  // A phrase that must not appear is looked for here; only which one was found is sent.
  function phrases() {
    var text = document.body ? document.body.textContent : '';
    (settings.phrases || []).forEach(function (p) {
      var known = view.happened.some(function (h) { return h.what === 'phrase' && h.name === p; });
      if (!known && text.indexOf(p) >= 0) tell('phrase', p);
    });
  }

  function navigation() {
    var n = performance.getEntriesByType('navigation')[0];
    if (!n || view.how === 'soft' || view.how === 'restored') return;
    var shown = n.activationStart || 0;
    if (n.loadEventEnd > 0) set('load', Math.max(0, n.loadEventEnd - shown));
    if (n.connectEnd > n.connectStart) {
      set('dns', n.domainLookupEnd - n.domainLookupStart);
      set('connect', n.connectEnd - n.connectStart);
    }
  }

  function report(leaving) {
    if (!allowed) return;
    watch();
    know();
    if (!sampled) return;
    navigation();
    phrases();
    if (leaving) {
      // A page that is left is `complete` at once, whatever was still to come: only the load event tells.
      view.abandoned = view.how !== 'soft' && !loaded;
      view.blank = !painted && !performance.getEntriesByName('first-contentful-paint').length;
    }
    if (!changed && view.seq > 0) return;
    changed = false;
    view.seq++;
    view.sent = Date.now();
    view.attributes = attributes;
    view.numbers = numbers;
    view.person = person;
    try {
      // A Blob of text/plain needs no permission from the other origin.
      navigator.sendBeacon(target, new Blob([JSON.stringify(view)], { type: 'text/plain' }));
    } catch (e) { /* nothing to be done, and the page must not notice */ }
  }

  // Another view without a load: it is there when what it asked for has come and nothing was asked for a while.
  function route(name) {
    report(true);
    begin('soft', now());
    if (name) view.url = new URL(name, location.origin).href.split(/[?#]/)[0];
    tell('route', address(view.url));
    var at = view, quiet = origin, wait = setInterval(function () {
      if (view !== at) return clearInterval(wait);
      if (pending > 0) quiet = now();
      if (now() - quiet > 500 || now() - origin > 30000) {
        clearInterval(wait);
        set('load', Math.max(0, quiet - origin));
        report(false);
      }
    }, 100);
  }
  ['pushState', 'replaceState'].forEach(function (name) {
    var own = history[name];
    history[name] = function () {
      var before = location.pathname, answer = own.apply(history, arguments);
      try { if (location.pathname !== before) route(); } catch (e) { /* never in the way */ }
      return answer;
    };
  });
  addEventListener('popstate', function () { if (new URL(view.url).pathname !== location.pathname) route(); });
  addEventListener('pageshow', function (e) { if (e.persisted) begin('restored', e.timeStamp); });

  addEventListener('visibilitychange', function () { if (document.visibilityState === 'hidden') report(true); }, true);
  addEventListener('pagehide', function () { report(true); }, true);
  // At load, but behind everything the page itself does then; later when there is more to tell, for pages that stay.
  function afterLoad() { setTimeout(function () { resources(); report(false); }, 1500); }
  if (document.readyState === 'complete') afterLoad(); else addEventListener('load', afterLoad);
  function keepTime() {
    // Nothing painted for ten seconds in front of somebody's eyes is blank, too.
    setTimeout(function () {
      if (!painted && !view.background && document.visibilityState === 'visible') { view.blank = changed = true; report(false); }
    }, 10000 - now());
    setInterval(function () { if (changed && view.seq > 0 && document.visibilityState === 'visible') report(false); }, 10000);
  }

  api.attribute = function (name, value) { attributes[name] = String(value).slice(0, 60); changed = true; };
  api.number = function (name, value) { numbers[name] = Number(value); changed = true; };
  api.event = function (name) { tell('event', name); };
  api.action = act;
  api.route = route;
  api.person = function (who) { person = String(who).slice(0, 200); changed = true; };
  api.consent = function (given) { allowed = !!given; if (given) report(false); };
  return api;
}
