// Moments as people read them, in the reader's own time zone; the exact time stands in the tip.
const CLOCK = { hour: "2-digit", minute: "2-digit", hourCycle: "h23" };

/** "today, 09:36", "yesterday, 09:36", "1 Dec, 09:36" or "1 Dec 2025, 09:36", of a Date as seen at another. */
export function shownTime(at, now = new Date(), zone = undefined, seconds = false) {
	const said = (options) => new Intl.DateTimeFormat("en-GB", { ...options, timeZone: zone }).format(at);
	const dayOf = (moment) => new Intl.DateTimeFormat("en-CA", { timeZone: zone }).format(moment);
	const clock = said(seconds ? { ...CLOCK, second: "2-digit" } : CLOCK);
	if (dayOf(at) === dayOf(now)) return `today, ${clock}`;
	if (dayOf(at) === dayOf(new Date(now.getTime() - 86400e3))) return `yesterday, ${clock}`;
	const year = dayOf(at).slice(0, 4) === dayOf(now).slice(0, 4) ? undefined : "numeric";
	return `${said({ day: "numeric", month: "short", year })}, ${clock}`;
}

/** The exact time, with seconds and the name of the zone. */
export function exactTime(at, zone = undefined) {
	const options = { year: "numeric", month: "short", day: "numeric", ...CLOCK, second: "2-digit", timeZoneName: "short", timeZone: zone };
	return new Intl.DateTimeFormat("en-GB", options).format(at);
}

/** Rewrite every <time> below an element. */
export function showTimes(below) {
	for (const element of below.querySelectorAll?.("time[datetime]") ?? []) {
		const at = new Date(element.dateTime);
		element.textContent = shownTime(at, new Date(), undefined, "seconds" in element.dataset);
		element.title = exactTime(at);
	}
}

if (typeof document !== "undefined") {
	showTimes(document);
	document.addEventListener("htmx:afterSwap", (event) => showTimes(event.target.parentElement ?? event.target));
}
