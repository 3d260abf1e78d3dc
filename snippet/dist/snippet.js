/* Cadentis snippet. Contains web-vitals 6.2.3, Copyright 2020 Google LLC, Apache-2.0. */
(function () {
try {
var webVitals=function(t){"use strict";let n=-1;const e=()=>n,i=t=>{addEventListener("pageshow",e=>{e.persisted&&(n=e.timeStamp,t(e))},!0)},o=(t,n,e,i)=>{let o,s;return a=>{n.value>=0&&(a||i)&&(s=n.value-(o??0),(s||void 0===o)&&(o=n.value,n.delta=s,n.rating=((t,n)=>t>n[1]?"poor":t>n[0]?"needs-improvement":"good")(n.value,e),t(n)))}},s=t=>{requestAnimationFrame(()=>requestAnimationFrame(()=>t()))},a=()=>{const t=performance.getEntriesByType("navigation")[0];if(t&&t.responseStart>0&&t.responseStart<performance.now())return t},r=()=>a()?.activationStart??0;let c=-1;const f=new Set,h=()=>"hidden"!==document.visibilityState||document.prerendering?1/0:0,d=t=>{if("hidden"===document.visibilityState){if("visibilitychange"===t.type)for(const t of f)t();isFinite(c)||(c="visibilitychange"===t.type?t.timeStamp:0,removeEventListener("prerenderingchange",d,!0))}},l=(t=!1)=>{if(t&&(c=1/0),c<0){const t=r(),n=document.prerendering?void 0:globalThis.performance.getEntriesByType("visibility-state").find(n=>"hidden"===n.name&&n.startTime>=t)?.startTime;c=n??h(),addEventListener("visibilitychange",d,!0),addEventListener("prerenderingchange",d,!0),i(()=>{setTimeout(()=>{c=h()})})}return{get firstHiddenTime(){return c},onHidden(t){f.add(t)}}},g=(t,n=-1,i,o=0,s,c,f)=>{const h=a(),d=h?.navigationId||0;let l="navigate";i?l=i:e()>=0?l="back-forward-cache":h&&(document.prerendering||r()>0?l="prerender":document.wasDiscarded?l="restore":h.type&&(l=h.type.replace(/_/g,"-")));return{name:t,value:n,rating:"good",delta:0,entries:[],id:`v6-${Date.now()}-${Math.floor(8999999999999*Math.random())+1e12}`,navigationType:l,navigationId:o||d,navigationInteractionId:s,navigationURL:c||h?.name,navigationStartTime:f||0}},u=new WeakMap;function v(t,n){let e=u.get(n);return e||(e=new WeakMap,u.set(n,e)),e.get(t)||e.set(t,new n),e.get(t)}class m{t;i=0;o=[];h(t){if(t.hadRecentInput)return;const n=this.o[0],e=this.o.at(-1);this.i&&n&&e&&t.startTime-e.startTime<1e3&&t.startTime-n.startTime<5e3?(this.i+=t.value,this.o.push(t)):(this.i=t.value,this.o=[t]),this.t?.(t)}}const p=(t,n,e={})=>{try{const i=t.filter(t=>PerformanceObserver.supportedEntryTypes.includes(t));if(i.length>0){const t=new PerformanceObserver(t=>{queueMicrotask(()=>{const e=t.getEntries();i.length>1&&e.sort((t,n)=>t.startTime+t.duration-(n.startTime+n.duration)),n(e)})});for(const n of i)t.observe({type:n,buffered:!0,...e});return t}}catch{}},b=t=>globalThis.PerformanceObserver?.supportedEntryTypes?.includes("soft-navigation")&&"function"==typeof globalThis.PerformanceSoftNavigation?.prototype?.getLargestInteractionContentfulPaint&&t&&t.reportSoftNavs,T=(t,n)=>{if(t.set(n.navigationId,n),t.size>2){const n=t.keys().next().value;void 0!==n&&t.delete(n)}},y=t=>{let n=!1;return()=>{n||(t(),n=!0)}};class _{l}const E=t=>{document.prerendering?addEventListener("prerenderingchange",t,!0):t()},M=[1800,3e3],L=(t,n={})=>{const a=b(n);E(()=>{const c=v(n,_),f=l();let h,d=g("FCP");const u=p(["paint"],t=>{for(const n of t)"first-contentful-paint"===n.name&&(u.disconnect(),n.startTime<f.firstHiddenTime&&(d.value=Math.max(n.startTime-r(),0),d.entries.push(n),d.navigationId=n.navigationId||d.navigationId,h(!0)))});if(u&&(h=o(t,d,M,n.reportAllChanges),i(i=>{d=g("FCP",-1,"back-forward-cache",d.navigationId,d.navigationInteractionId,d.navigationURL,e()),h=o(t,d,M,n.reportAllChanges),s(()=>{d.value=performance.now()-i.timeStamp,h(!0)})})),a){p(["soft-navigation"],e=>{e.forEach(e=>{c.l&&e.navigationId&&T(c.l,e);const i=Math.max((e.presentationTime||e.paintTime||0)-e.startTime,0);d=g("FCP",i,"soft-navigation",e.navigationId,e.interactionId,e.name,e.startTime),h=o(t,d,M,n.reportAllChanges),h(!0)})},n)}})},w=[.1,.25];let P=0,I=1/0,k=0;const C=t=>{for(const n of t)n.interactionId&&(I=Math.min(I,n.interactionId),k=Math.max(k,n.interactionId),P=k?(k-I)/7+1:0)};let F;const N=()=>F?P:performance.interactionCount??0,B=()=>{"interactionCount"in performance||F||(F=p(["event"],C,{durationThreshold:0}))};class S{u=0;v=[];m=new Map;p;T;_(){return N()-this.u}M(){this.u=N(),this.v.length=0,this.m.clear()}L(t){const n=this._(),e=Math.min(this.v.length-1,Math.floor(n/50));return!n||-1!==e||"soft-navigation"!==t&&"back-forward-cache"!==t?this.v[e]:{P:8,id:-1,entries:[]}}h(t){if(this.p?.(t),!t.interactionId)return;const n=this.v.at(-1);let e=this.m.get(t.interactionId);if(e||this.v.length<10||t.duration>n.P){if(e?t.duration>e.P?(e.entries=[t],e.P=t.duration):t.duration===e.P&&t.startTime===e.entries[0].startTime&&e.entries.push(t):(e={id:t.interactionId,entries:[t],P:t.duration},this.m.set(e.id,e),this.v.push(e)),this.v.sort((t,n)=>n.P-t.P),this.v.length>10){const t=this.v.splice(10);for(const n of t)this.m.delete(n.id)}this.T?.(e)}}}const q=t=>{const n="requestIdleCallback"in globalThis?1e3:0,e=globalThis.requestIdleCallback||setTimeout,i=globalThis.cancelIdleCallback||clearTimeout;if("hidden"===document.visibilityState)t();else{const o=y(t);let s=-1;const a=()=>{i(s),o()};addEventListener("visibilitychange",a,{once:!0,capture:!0}),s=e(()=>{removeEventListener("visibilitychange",a,{capture:!0}),o()},{timeout:n})}},A=[200,500];class H{p;l;h(t){this.p?.(t)}}const O=[2500,4e3],U=[800,1800],V=t=>{document.prerendering?E(()=>V(t)):"complete"!==document.readyState?addEventListener("load",()=>V(t),!0):setTimeout(t)};return t.CLSThresholds=w,t.FCPThresholds=M,t.INPThresholds=A,t.LCPThresholds=O,t.TTFBThresholds=U,t.onCLS=(t,n={})=>{const a=l();L(y(()=>{let r,c=g("CLS",0);const f=v(n,m),h=(e,i,s,a,h)=>{c=g("CLS",0,e,i,s,a,h),f.i=0,r=o(t,c,w,n.reportAllChanges)},d=(t=!1)=>{f.i>c.value&&(c.value=f.i,c.entries=f.o),r(t)},l=t=>{d(!0),h("soft-navigation",t.navigationId,t.interactionId,t.name,t.startTime)},u=t=>{for(const n of t)"soft-navigation"!==n.entryType?f.h(n):l(n);d()},T=["layout-shift"];b(n)&&T.push("soft-navigation");const y=p(T,u);y&&(r=o(t,c,w,n.reportAllChanges),a.onHidden(()=>{u(y.takeRecords()),r(!0)}),i(()=>{h("back-forward-cache",c.navigationId,c.navigationInteractionId,c.navigationURL,e()),s(r)}),setTimeout(r))}))},t.onFCP=L,t.onINP=(t,n={})=>{if(!globalThis.PerformanceEventTiming||!("interactionId"in PerformanceEventTiming.prototype))return;const s=l();E(()=>{B();let a,r=g("INP");const c=v(n,S),f=(e,i,s,f,h)=>{c.M(),r=g("INP",-1,e,i,s,f,h),a=o(t,r,A,n.reportAllChanges)},h=()=>{const t=c.L(r.navigationType);t&&t.P!==r.value&&(r.value=t.P,r.entries=t.entries,a())},d=t=>{h(),a(!0),f("soft-navigation",t.navigationId,t.interactionId,t.name,t.startTime)},l=(t,n=!1)=>{q(()=>{for(const n of t)"soft-navigation"!==n.entryType?c.h(n):d(n);h(),n&&a(!0)})},u=["event","first-input"];b(n)&&u.push("soft-navigation");const m=p(u,l,{...n,durationThreshold:n.durationThreshold??40});a=o(t,r,A,n.reportAllChanges),m&&(s.onHidden(()=>{l(m.takeRecords(),!0)}),i(()=>{f("back-forward-cache",r.navigationId,r.navigationInteractionId,r.navigationURL,e())}))})},t.onLCP=(t,n={})=>{let a=!1;const c=b(n);E(()=>{let f,h=l(),d=g("LCP");const u=v(n,H),m=(e,i,s,r,c)=>{d=g("LCP",-1,e,i,s,r,c),f=o(t,d,O,n.reportAllChanges),a=!1,"soft-navigation"===e&&(h=l(!0))},b=t=>{u.l&&t.navigationId&&T(u.l,t),a||f(!0),m("soft-navigation",t.navigationId,t.interactionId,t.name,t.startTime);const n=t.getLargestInteractionContentfulPaint?.();n&&y([n])},y=t=>{n.reportAllChanges||c||(t=t.slice(-1));for(const n of t){if(!n)continue;if("soft-navigation"===n.entryType){b(n);continue}let t=0,e=[],i=n.startTime;if("largest-contentful-paint"===n.entryType)t=Math.max(n.startTime-r(),0),u.h(n),e=[n];else if("interaction-contentful-paint"===n.entryType){const o=n;if(!d.navigationId)continue;if("interactionId"in o&&o.interactionId!=d.navigationInteractionId)continue;i=o.largestContentfulPaint?.renderTime||0,t=Math.max(i-n.startTime,0),o.largestContentfulPaint&&(u.h(o.largestContentfulPaint),e=[o.largestContentfulPaint])}i<h.firstHiddenTime&&(d.value=t,d.entries=e,f())}},_=["largest-contentful-paint"];c&&_.push("interaction-contentful-paint","soft-navigation");const E=p(_,y);if(E){f=o(t,d,O,n.reportAllChanges);const r=["keydown","click","visibilitychange"],h=t=>{if(t.isTrusted&&!a){const t=d.id;q(()=>{if(!a){if(!c){E.disconnect();for(const t of r)removeEventListener(t,h,{capture:!0})}t===d.id&&(a=!0,f(!0))}})}};for(const t of r)addEventListener(t,h,{capture:!0});i(i=>{m("back-forward-cache",d.navigationId,d.navigationInteractionId,d.navigationURL,e()),f=o(t,d,O,n.reportAllChanges),s(()=>{d.value=performance.now()-i.timeStamp,a=!0,f(!0)})})}})},t.onTTFB=(t,n={})=>{const s=b(n);let c=g("TTFB"),f=o(t,c,U,n.reportAllChanges);V(()=>{const h=a();if(h){const a=h.responseStart;if(c.value=Math.max(a-r(),0),c.entries=[h],f(!0),i(()=>{c=g("TTFB",0,"back-forward-cache",c.navigationId,c.navigationInteractionId,c.navigationURL,e()),f=o(t,c,U,n.reportAllChanges),f(!0)}),s){p(["soft-navigation"],e=>{e.forEach(e=>{e.navigationId&&(c=g("TTFB",0,"soft-navigation",e.navigationId,e.interactionId,e.name,e.startTime),c.entries=[e],f=o(t,c,U,n.reportAllChanges),f(!0))})},n)}}})},t}({});

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
} catch (e) { /* a page must never notice us */ }
})();
