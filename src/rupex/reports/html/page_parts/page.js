"use strict";
(function () {
  var tools = document.querySelector("nav.tools");
  if (!tools) { return; }
  tools.hidden = false;
  var words = tools.querySelector("[name=words]"), host = tools.querySelector("[name=host]"), sort = tools.querySelector("[name=sort]");
  var boxes = Array.prototype.slice.call(tools.querySelectorAll("[name=severity]")), told = tools.querySelector("output");
  var cards = Array.prototype.slice.call(document.querySelectorAll("details.finding"));
  var sections = Array.prototype.slice.call(document.querySelectorAll("section.host"));
  var severities = ["critical", "high", "medium", "low"];
  cards.forEach(function (card, at) {
    card.dataset.order = at;
    card.dataset.severity = severities.filter(function (one) { return card.classList.contains(one); })[0];
    card.dataset.host = card.closest("section.host").dataset.host;
  });
  var texts = cards.map(function (card) { return card.textContent.toLowerCase(); });
  function apply() {
    var wanted = words.value.trim().toLowerCase(), chosen = {}, shown = 0;
    boxes.forEach(function (box) { chosen[box.value] = box.checked; });
    cards.forEach(function (card, at) {
      var visible = chosen[card.dataset.severity] && (!host || !host.value || card.dataset.host === host.value) &&
        (!wanted || texts[at].indexOf(wanted) >= 0);
      card.hidden = !visible;
      if (visible) { shown += 1; }
    });
    sections.forEach(function (section) { section.hidden = Boolean(host && host.value && section.dataset.host !== host.value); });
    told.textContent = shown + " of " + cards.length + " findings";
  }
  function order() {
    var by = sort.value;
    document.querySelectorAll(".findings").forEach(function (list) {
      Array.prototype.slice.call(list.querySelectorAll("details.finding")).sort(function (one, other) {
        if (by === "control") { return one.dataset.control < other.dataset.control ? -1 : 1; }
        return by === "points" ? other.dataset.points - one.dataset.points : one.dataset.order - other.dataset.order;
      }).forEach(function (card) { list.appendChild(card); });
    });
  }
  function fold(open) { cards.forEach(function (card) { card.open = open; }); }
  words.addEventListener("input", apply);
  boxes.forEach(function (box) { box.addEventListener("change", apply); });
  if (host) { host.addEventListener("change", apply); }
  sort.addEventListener("change", order);
  tools.querySelector("[name=unfold]").addEventListener("click", function () { fold(true); });
  tools.querySelector("[name=fold]").addEventListener("click", function () { fold(false); });
  tools.querySelector("form").addEventListener("submit", function (event) { event.preventDefault(); });
  window.addEventListener("beforeprint", function () { fold(true); });
  apply();
}());
