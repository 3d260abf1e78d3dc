/* Cadentis snippet. Contains web-vitals 6.2.3, Copyright 2020 Google LLC, Apache-2.0. */
(function () {
try {
function vitals() {
var webVitals=function(t){"use strict";class n{t;o=0;i=[];l(t){if(t.hadRecentInput)return;const n=this.i[0],e=this.i.at(-1);this.o&&n&&e&&t.startTime-e.startTime<1e3&&t.startTime-n.startTime<5e3?(this.o+=t.value,this.i.push(t)):(this.o=t.value,this.i=[t]),this.t?.(t)}}const e=()=>{const t=performance.getEntriesByType("navigation")[0];if(t&&t.responseStart>0&&t.responseStart<performance.now())return t},o=t=>{if("loading"===document.readyState)return"loading";const n=e();if(n){if(t<n.domInteractive)return"loading";if(0===n.domContentLoadedEventStart||t<n.domContentLoadedEventStart)return"dom-interactive";if(0===n.domComplete||t<n.domComplete)return"dom-content-loaded"}return"complete"},i=t=>{const n=t.nodeName;return 1===t.nodeType?n.toLowerCase():n.toUpperCase().replace(/^#/,"")},a=t=>{let n="";try{for(;9!==t?.nodeType;){const e=t,o=e.id?"#"+e.id:[i(e),...Array.from(e.classList??[]).sort()].join(".");if(n.length+o.length>99)return n||o;if(n=n?o+">"+n:o,e.id)break;t=e.parentNode}}catch{}return n},r=new WeakMap;function s(t,n){let e=r.get(n);return e||(e=new WeakMap,r.set(n,e)),e.get(t)||e.set(t,new n),e.get(t)}let c=-1;const f=()=>c,l=t=>{addEventListener("pageshow",n=>{n.persisted&&(c=n.timeStamp,t(n))},!0)},u=(t,n,e,o)=>{let i,a;return r=>{n.value>=0&&(r||o)&&(a=n.value-(i??0),(a||void 0===i)&&(i=n.value,n.delta=a,n.rating=((t,n)=>t>n[1]?"poor":t>n[0]?"needs-improvement":"good")(n.value,e),t(n)))}},d=t=>{requestAnimationFrame(()=>requestAnimationFrame(()=>t()))},h=()=>e()?.activationStart??0;let g=-1;const v=new Set,p=()=>"hidden"!==document.visibilityState||document.prerendering?1/0:0,m=t=>{if("hidden"===document.visibilityState){if("visibilitychange"===t.type)for(const t of v)t();isFinite(g)||(g="visibilitychange"===t.type?t.timeStamp:0,removeEventListener("prerenderingchange",m,!0))}},y=(t=!1)=>{if(t&&(g=1/0),g<0){const t=h(),n=document.prerendering?void 0:globalThis.performance.getEntriesByType("visibility-state").find(n=>"hidden"===n.name&&n.startTime>=t)?.startTime;g=n??p(),addEventListener("visibilitychange",m,!0),addEventListener("prerenderingchange",m,!0),l(()=>{setTimeout(()=>{g=p()})})}return{get firstHiddenTime(){return g},onHidden(t){v.add(t)}}},b=(t,n=-1,o,i=0,a,r,s)=>{const c=e(),l=c?.navigationId||0;let u="navigate";o?u=o:f()>=0?u="back-forward-cache":c&&(document.prerendering||h()>0?u="prerender":document.wasDiscarded?u="restore":c.type&&(u=c.type.replace(/_/g,"-")));return{name:t,value:n,rating:"good",delta:0,entries:[],id:`v6-${Date.now()}-${Math.floor(8999999999999*Math.random())+1e12}`,navigationType:u,navigationId:i||l,navigationInteractionId:a,navigationURL:r||c?.name,navigationStartTime:s||0}},M=(t,n,e={})=>{try{const o=t.filter(t=>PerformanceObserver.supportedEntryTypes.includes(t));if(o.length>0){const t=new PerformanceObserver(t=>{queueMicrotask(()=>{const e=t.getEntries();o.length>1&&e.sort((t,n)=>t.startTime+t.duration-(n.startTime+n.duration)),n(e)})});for(const n of o)t.observe({type:n,buffered:!0,...e});return t}}catch{}},T=t=>globalThis.PerformanceObserver?.supportedEntryTypes?.includes("soft-navigation")&&"function"==typeof globalThis.PerformanceSoftNavigation?.prototype?.getLargestInteractionContentfulPaint&&t&&t.reportSoftNavs,E=(t,n)=>{if(t.set(n.navigationId,n),t.size>2){const n=t.keys().next().value;void 0!==n&&t.delete(n)}},D=t=>{let n=!1;return()=>{n||(t(),n=!0)}};class w{u}const S=t=>{document.prerendering?addEventListener("prerenderingchange",t,!0):t()},k=[1800,3e3],L=(t,n={})=>{const e=T(n);S(()=>{const o=s(n,w),i=y();let a,r=b("FCP");const c=M(["paint"],t=>{for(const n of t)"first-contentful-paint"===n.name&&(c.disconnect(),n.startTime<i.firstHiddenTime&&(r.value=Math.max(n.startTime-h(),0),r.entries.push(n),r.navigationId=n.navigationId||r.navigationId,a(!0)))});if(c&&(a=u(t,r,k,n.reportAllChanges),l(e=>{r=b("FCP",-1,"back-forward-cache",r.navigationId,r.navigationInteractionId,r.navigationURL,f()),a=u(t,r,k,n.reportAllChanges),d(()=>{r.value=performance.now()-e.timeStamp,a(!0)})})),e){M(["soft-navigation"],e=>{e.forEach(e=>{o.u&&e.navigationId&&E(o.u,e);const i=Math.max((e.presentationTime||e.paintTime||0)-e.startTime,0);r=b("FCP",i,"soft-navigation",e.navigationId,e.interactionId,e.name,e.startTime),a=u(t,r,k,n.reportAllChanges),a(!0)})},n)}})},P=[.1,.25],F=t=>t.find(t=>1===t.node?.nodeType)||t[0];let _=0,C=1/0,I=0;const B=t=>{for(const n of t)n.interactionId&&(C=Math.min(C,n.interactionId),I=Math.max(I,n.interactionId),_=I?(I-C)/7+1:0)};let O;const j=()=>O?_:performance.interactionCount??0,A=()=>{"interactionCount"in performance||O||(O=M(["event"],B,{durationThreshold:0}))};class N{h=0;v=[];p=new Map;m;M;T(){return j()-this.h}D(){this.h=j(),this.v.length=0,this.p.clear()}S(t){const n=this.T(),e=Math.min(this.v.length-1,Math.floor(n/50));return!n||-1!==e||"soft-navigation"!==t&&"back-forward-cache"!==t?this.v[e]:{k:8,id:-1,entries:[]}}l(t){if(this.m?.(t),!t.interactionId)return;const n=this.v.at(-1);let e=this.p.get(t.interactionId);if(e||this.v.length<10||t.duration>n.k){if(e?t.duration>e.k?(e.entries=[t],e.k=t.duration):t.duration===e.k&&t.startTime===e.entries[0].startTime&&e.entries.push(t):(e={id:t.interactionId,entries:[t],k:t.duration},this.p.set(e.id,e),this.v.push(e)),this.v.sort((t,n)=>n.k-t.k),this.v.length>10){const t=this.v.splice(10);for(const n of t)this.p.delete(n.id)}this.M?.(e)}}}const q=t=>{const n="requestIdleCallback"in globalThis?1e3:0,e=globalThis.requestIdleCallback||setTimeout,o=globalThis.cancelIdleCallback||clearTimeout;if("hidden"===document.visibilityState)t();else{const i=D(t);let a=-1;const r=()=>{o(a),i()};addEventListener("visibilitychange",r,{once:!0,capture:!0}),a=e(()=>{removeEventListener("visibilitychange",r,{capture:!0}),i()},{timeout:n})}},W=[200,500];class R{m;u;l(t){this.m?.(t)}}const U=[2500,4e3];let V=50;const $=[];M(["resource"],t=>{for(const n of t)$.push(n),$.length>V&&$.shift()});const x=[800,1800],H=t=>{document.prerendering?S(()=>H(t)):"complete"!==document.readyState?addEventListener("load",()=>H(t),!0):setTimeout(t)};return t.CLSThresholds=P,t.FCPThresholds=k,t.INPThresholds=W,t.LCPThresholds=U,t.TTFBThresholds=x,t.onCLS=(t,e={})=>{const i=s(e=Object.assign({},e),n),r=new WeakMap;i.t=t=>{if(t?.sources?.length){const n=F(t.sources),o=n?.node;if(o){const t=e.generateTarget?.(o)??a(o);r.set(n,t)}}};((t,e={})=>{const o=y();L(D(()=>{let i,a=b("CLS",0);const r=s(e,n),c=(n,o,s,c,f)=>{a=b("CLS",0,n,o,s,c,f),r.o=0,i=u(t,a,P,e.reportAllChanges)},h=(t=!1)=>{r.o>a.value&&(a.value=r.o,a.entries=r.i),i(t)},g=t=>{h(!0),c("soft-navigation",t.navigationId,t.interactionId,t.name,t.startTime)},v=t=>{for(const n of t)"soft-navigation"!==n.entryType?r.l(n):g(n);h()},p=["layout-shift"];T(e)&&p.push("soft-navigation");const m=M(p,v);m&&(i=u(t,a,P,e.reportAllChanges),o.onHidden(()=>{v(m.takeRecords()),i(!0)}),l(()=>{c("back-forward-cache",a.navigationId,a.navigationInteractionId,a.navigationURL,f()),d(i)}),setTimeout(i))}))})(n=>{t((t=>{let n={};if(t.entries.length){const e=t.entries.reduce((t,n)=>t.value>n.value?t:n);if(e?.sources?.length){const t=F(e.sources);t&&(n={largestShiftTarget:r.get(t),largestShiftTime:e.startTime,largestShiftValue:e.value,largestShiftSource:t,largestShiftEntry:e,loadState:o(e.startTime)})}}return Object.assign(t,{attribution:n})})(n))},e)},t.onFCP=(t,n={})=>{const i=s(n=Object.assign({},n),w);T(n)&&(i.u=new Map);L(n=>{t((t=>{let n={timeToFirstByte:0,firstByteToFCP:t.value,loadState:o(f())};if("soft-navigation"!==t.navigationType){if(t.entries.length){const i=e(),a=t.entries.at(-1);if(i){const e=i.responseStart,r=i.activationStart||0,s=Math.max(0,e-r);n={timeToFirstByte:s,firstByteToFCP:t.value-s,loadState:o(t.entries[0].startTime),navigationEntry:i,fcpEntry:a}}}}else{const e=i.u?.get(t.navigationId);e&&(n={timeToFirstByte:0,firstByteToFCP:t.value,loadState:"complete",navigationEntry:e})}return Object.assign(t,{attribution:n})})(n))},n)},t.onINP=(t,n={})=>{const e=s(n=Object.assign({},n),N);let i=[],r=[],c=0;const d=new WeakMap,h=new WeakMap;let g=!1;const v=()=>{g||(g=!0,q(p))},p=()=>{const t=new Set(e.v.map(t=>d.get(t.entries[0]))),n=r.length-10;r=r.filter((e,o)=>o>=n||t.has(e));const o=new Set;for(const t of r){const n=m(t.startTime,t.processingEnd);for(const t of n)o.add(t)}const a=i.length-10;i=i.filter((t,n)=>o.has(t)||n>=a&&t.startTime>c),g=!1};e.m=t=>{const e=t.startTime+t.duration;let o;c=Math.max(c,t.processingEnd);for(let i=r.length-1;i>=0;i--){const a=r[i];if(Math.abs(e-a.renderTime)<=8){o=a,o.startTime=Math.min(t.startTime,o.startTime),o.processingStart=Math.min(t.processingStart,o.processingStart),o.processingEnd=Math.max(t.processingEnd,o.processingEnd),n.includeProcessedEventEntries&&o.entries.push(t);break}}o||(o={startTime:t.startTime,processingStart:t.processingStart,processingEnd:t.processingEnd,renderTime:e,entries:n.includeProcessedEventEntries?[t]:[]},r.push(o)),t.interactionId&&d.set(t,o),v()},e.M=t=>{if(!h.get(t)){const e=t.entries.find(t=>t.target)?.target;if(e){const o=n.generateTarget?.(e)??a(e);h.set(t,o)}else{const n=t.entries.find(t=>t.targetSelector)?.targetSelector;n&&h.set(t,n)}}};const m=(t,n)=>{const e=[];for(const o of i)if(!(o.startTime+o.duration<t)){if(o.startTime>n)break;e.push(o)}return e},E=t=>{if(0===t.entries.length){const n=t.navigationStartTime||0,e={processedEventEntries:[],longAnimationFrameEntries:[],inputDelay:0,processingDuration:0,presentationDelay:t.value,loadState:o(n)};return Object.assign(t,{attribution:e})}const n=t.entries[0],i=d.get(n),a=Math.max(i.processingStart,n.startTime),r=Math.max(n.startTime+n.duration,a),s=Math.min(i.processingEnd,r),c=i.entries.sort((t,n)=>t.processingStart-n.processingStart),f=m(n.startTime,s),l=e.p.get(n.interactionId),u={interactionTarget:h.get(l),interactionType:n.name.startsWith("key")?"keyboard":"pointer",interactionTime:n.startTime,nextPaintTime:r,processedEventEntries:c,longAnimationFrameEntries:f,inputDelay:a-n.startTime,processingDuration:s-a,presentationDelay:r-s,loadState:o(n.startTime),longestScript:void 0,totalScriptDuration:void 0,totalStyleAndLayoutDuration:void 0,totalPaintDuration:void 0,totalUnattributedDuration:void 0};return(t=>{const n=t.interactionTime,e=t.nextPaintTime;if(!t.longAnimationFrameEntries?.length||!n||!e)return;const o=t.inputDelay,i=t.processingDuration;let a,r,s=0,c=0,f=0,l=0;for(const e of t.longAnimationFrameEntries){c=c+e.startTime+e.duration-e.styleAndLayoutStart;for(const t of e.scripts){const e=t.startTime+t.duration;if(e<n)continue;const f=e-Math.max(n,t.startTime),u=t.duration?f/t.duration*t.forcedStyleAndLayoutDuration:0;s+=f-u,c+=u,f>l&&(r=t.startTime<n+o?"input-delay":t.startTime>=n+o+i?"presentation-delay":"processing-duration",a=t,l=f)}}const u=t.longAnimationFrameEntries.at(-1),d=u?u.startTime+u.duration:0;d>=n+o+i&&(f=e-d),a&&r&&(t.longestScript={entry:a,subpart:r,intersectingDuration:l}),t.totalScriptDuration=s,t.totalStyleAndLayoutDuration=c,t.totalPaintDuration=f,t.totalUnattributedDuration=e-n-s-c-f})(u),Object.assign(t,{attribution:u})};M(["long-animation-frame"],t=>{i=i.concat(t),v()},n),((t,n={})=>{if(!globalThis.PerformanceEventTiming||!("interactionId"in PerformanceEventTiming.prototype))return;const e=y();S(()=>{A();let o,i=b("INP");const a=s(n,N),r=(e,r,s,c,f)=>{a.D(),i=b("INP",-1,e,r,s,c,f),o=u(t,i,W,n.reportAllChanges)},c=()=>{const t=a.S(i.navigationType);t&&t.k!==i.value&&(i.value=t.k,i.entries=t.entries,o())},d=t=>{c(),o(!0),r("soft-navigation",t.navigationId,t.interactionId,t.name,t.startTime)},h=(t,n=!1)=>{q(()=>{for(const n of t)"soft-navigation"!==n.entryType?a.l(n):d(n);c(),n&&o(!0)})},g=["event","first-input"];T(n)&&g.push("soft-navigation");const v=M(g,h,{...n,durationThreshold:n.durationThreshold??40});o=u(t,i,W,n.reportAllChanges),v&&(e.onHidden(()=>{h(v.takeRecords(),!0)}),l(()=>{r("back-forward-cache",i.navigationId,i.navigationInteractionId,i.navigationURL,f())}))})})(n=>{t(E(n))},n)},t.onLCP=(t,n={})=>{null!=(n=Object.assign({},n)).resourceBufferSize&&(V=n.resourceBufferSize);const o=s(n,R),i=new WeakMap;T(n)&&(o.u=new Map),o.m=t=>{const e=t.element;if(e){const o=n.generateTarget?.(e)??a(e);i.set(t,o)}else t.id&&i.set(t,`#${t.id}`)};((t,n={})=>{let e=!1;const o=T(n);S(()=>{let i,a=y(),r=b("LCP");const c=s(n,R),g=(o,s,c,f,l)=>{r=b("LCP",-1,o,s,c,f,l),i=u(t,r,U,n.reportAllChanges),e=!1,"soft-navigation"===o&&(a=y(!0))},v=t=>{c.u&&t.navigationId&&E(c.u,t),e||i(!0),g("soft-navigation",t.navigationId,t.interactionId,t.name,t.startTime);const n=t.getLargestInteractionContentfulPaint?.();n&&p([n])},p=t=>{n.reportAllChanges||o||(t=t.slice(-1));for(const n of t){if(!n)continue;if("soft-navigation"===n.entryType){v(n);continue}let t=0,e=[],o=n.startTime;if("largest-contentful-paint"===n.entryType)t=Math.max(n.startTime-h(),0),c.l(n),e=[n];else if("interaction-contentful-paint"===n.entryType){const i=n;if(!r.navigationId)continue;if("interactionId"in i&&i.interactionId!=r.navigationInteractionId)continue;o=i.largestContentfulPaint?.renderTime||0,t=Math.max(o-n.startTime,0),i.largestContentfulPaint&&(c.l(i.largestContentfulPaint),e=[i.largestContentfulPaint])}o<a.firstHiddenTime&&(r.value=t,r.entries=e,i())}},m=["largest-contentful-paint"];o&&m.push("interaction-contentful-paint","soft-navigation");const T=M(m,p);if(T){i=u(t,r,U,n.reportAllChanges);const a=["keydown","click","visibilitychange"],s=t=>{if(t.isTrusted&&!e){const t=r.id;q(()=>{if(!e){if(!o){T.disconnect();for(const t of a)removeEventListener(t,s,{capture:!0})}t===r.id&&(e=!0,i(!0))}})}};for(const t of a)addEventListener(t,s,{capture:!0});l(o=>{g("back-forward-cache",r.navigationId,r.navigationInteractionId,r.navigationURL,f()),i=u(t,r,U,n.reportAllChanges),d(()=>{r.value=performance.now()-o.timeStamp,e=!0,i(!0)})})}})})(n=>{t((t=>{let n={timeToFirstByte:0,resourceLoadDelay:0,resourceLoadDuration:0,elementRenderDelay:t.value};if(t.entries.length){const a=t.entries.at(-1),r=t=>t.name===a.url&&(t.requestStart||t.startTime)<=a.startTime,s=a.url&&($.findLast(r)||performance.getEntriesByType("resource").findLast(r));let c;n.target=i.get(a),n.lcpEntry=a,a.url&&(n.url=a.url),s&&(n.lcpResourceEntry=s);let f=0,l=0;if("soft-navigation"!==t.navigationType?(c=e(),f=c?.activationStart??0,l=c?.responseStart??0):(f=t.navigationStartTime||0,c=o.u?.get(t.navigationId)),c){const e=Math.max(0,l-f),o=Math.max(e,s?(s.requestStart||s.startTime)-f:0),i=Math.min(t.value,Math.max(o,s?s.responseEnd-f:0));n={...n,timeToFirstByte:e,resourceLoadDelay:o-e,resourceLoadDuration:i-o,elementRenderDelay:t.value-i,navigationEntry:c}}}return Object.assign(t,{attribution:n})})(n))},n)},t.onTTFB=(t,n={})=>{((t,n={})=>{const o=T(n);let i=b("TTFB"),a=u(t,i,x,n.reportAllChanges);H(()=>{const r=e();if(r){const e=r.responseStart;i.value=Math.max(e-h(),0),i.entries=[r],a(!0),l(()=>{i=b("TTFB",0,"back-forward-cache",i.navigationId,i.navigationInteractionId,i.navigationURL,f()),a=u(t,i,x,n.reportAllChanges),a(!0)}),o&&M(["soft-navigation"],e=>{e.forEach(e=>{e.navigationId&&(i=b("TTFB",0,"soft-navigation",e.navigationId,e.interactionId,e.name,e.startTime),i.entries=[e],a=u(t,i,x,n.reportAllChanges),a(!0))})},n)}})})(n=>{t((t=>{const n=t.entries[0];let e={waitingDuration:0,cacheDuration:0,dnsDuration:0,connectionDuration:0,requestDuration:0,navigationEntry:n};if(t.entries.length&&n instanceof PerformanceNavigationTiming){const o=n.activationStart||0,i=Math.max((n.workerStart||n.fetchStart||0)-o,0),a=Math.max(n.domainLookupStart-o,0),r=Math.max(n.connectStart-o,0),s=Math.max(n.connectEnd-o,0);e={waitingDuration:i,cacheDuration:a-i,dnsDuration:r-a,connectionDuration:s-r,requestDuration:t.value-s,navigationEntry:n}}return Object.assign(t,{attribution:e})})(n))},n)},t}({});
return webVitals; }
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
// As a tag, asynchronous or blocking. Pages call `cadentis.push(['attribute', 'plan', 'gold'])` whether it has come or not.
(function () {
  var tag = document.currentScript || document.querySelector('script[data-cadentis]') || {};
  var own = typeof CADENTIS_SETTINGS === 'object' ? CADENTIS_SETTINGS : {}, data = tag.dataset || {};
  var settings = {
    site: own.site || data.cadentis, tag: tag, server: own.server, sample: data.sample || own.sample, keep: own.keep,
    phrases: own.phrases, consent: data.consent || own.consent, release: data.release,
    trace: data.trace ? data.trace.split(' ') : own.trace
  };
  var api = measure(settings), waiting = window.cadentis || [];
  function take(call) { try { api[call[0]].apply(null, call.slice(1)); } catch (e) { /* a page must never notice us */ } }
  window.cadentis = { push: take };
  for (var i = 0; i < waiting.length; i++) take(waiting[i]);
})();
} catch (e) { /* a page must never notice us */ }
})();
