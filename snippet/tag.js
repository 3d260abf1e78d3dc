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
