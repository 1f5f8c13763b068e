// Ticks stay in this browser, under the lab's name.
const key = "runbook:" + document.title, boxes = [...document.querySelectorAll("[data-tick]")];
let kept = {};
try { kept = JSON.parse(localStorage.getItem(key) || "{}"); } catch { }
function show() {
	const steps = [...document.querySelectorAll("h3 [data-tick]")];
	for (const s of steps) s.closest(".step").classList.toggle("done", s.checked);
	document.getElementById("progress").textContent = steps.filter(s => s.checked).length + " of " + steps.length + " steps done";
}
for (const b of boxes) {
	b.checked = !!kept[b.dataset.tick];
	b.addEventListener("change", () => { kept[b.dataset.tick] = b.checked; try { localStorage.setItem(key, JSON.stringify(kept)); } catch { } show(); });
}
show();
