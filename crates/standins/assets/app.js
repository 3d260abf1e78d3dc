// The booking site's own script: fills the list of sailings, and misbehaves when told to.
(function () {
  function work(ms) {
    var until = performance.now() + Number(ms || 0);
    while (performance.now() < until);
  }
  var misbehave = document.body.dataset;
  var list = document.getElementById('sailings');
  if (list) {
    fetch('/api/sailings' + location.search).then(function (answer) {
      if (!answer.ok) throw new Error('sailings: ' + answer.status);
      return answer.json();
    }).then(function (data) {
      var ul = document.createElement('ul');
      ul.className = 'sailings';
      ul.setAttribute('aria-label', 'Sailings');
      work(misbehave.work);
      data.sailings.forEach(function (s) {
        var li = document.createElement('li');
        li.innerHTML = '<span></span><span></span><a></a>';
        li.children[0].textContent = s.leaves + ' ' + s.from + ' – ' + s.to;
        li.children[1].textContent = 'from €' + s.price;
        li.children[2].textContent = 'Choose the ' + s.leaves;
        li.children[2].href = '/cabin?sailing=' + encodeURIComponent(s.id);
        li.children[2].dataset.action = 'choose-sailing';
        ul.appendChild(li);
      });
      list.replaceChildren(ul);
    }).catch(function (e) {
      list.innerHTML = '<p class="notice">We cannot show the sailings just now. Please try again in a moment.</p>';
      console.error(String(e));
    });
  }
  if (misbehave.shift) setTimeout(function () {
    var bar = document.createElement('div');
    bar.className = 'notice';
    bar.style.height = '160px';
    bar.textContent = 'Winter timetable from 1 December';
    document.body.insertBefore(bar, document.body.firstChild);
  }, 900);
  if (misbehave.heavy) document.addEventListener('pointerdown', function () { work(misbehave.heavy); });
  if (misbehave.broken) setTimeout(function () { window.loyaltyCard.show(); }, 50);
})();
