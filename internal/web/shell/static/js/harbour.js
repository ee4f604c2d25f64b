// The page's own component: whether the server is heard, and what is selected.
let component = null;

// say tells on the live dot whether the server is heard.
export function say(text, className) {
  if (!component) return;
  component.heard = text;
  component.dotClass = className;
}

export function registerHarbour() {
  window.Alpine.data("harbour", () => ({
    heard: "in touch",
    dotClass: "",
    picks: [],
    all: false,
    init() {
      component = this;
      // What was ticked before a form was sent stays ticked.
      this.picks = new URLSearchParams(location.search).getAll("pick");
    },
    // How many a button is about: the picked ones, else all that match.
    size(total) {
      return this.all || !this.picks.length ? total : this.picks.length;
    },
    label(verb, total) {
      const n = this.size(total);
      return verb + " " + (n === 1 ? "1 camera" : n.toLocaleString("en") + " cameras");
    },
    chosen() {
      return this.picks.length > 0;
    },
    count(total) {
      return this.size(total).toLocaleString("en") + " selected";
    },
    more(total) {
      return !this.all && this.picks.length > 0 && this.picks.length < total;
    },
    takeAll() {
      this.all = true;
    },
    allFlag() {
      return this.all ? "1" : "";
    },
    clear() {
      this.picks = [];
      this.all = false;
    },
  }));
}
