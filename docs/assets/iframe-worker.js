// The search runs in a worker. A page opened from a folder may start none, so a hidden frame does
// the worker's job there: it loads the worker's script, and the two send each other messages.
if (location.protocol === "file:") {
  window.Worker = class extends EventTarget {
    constructor(url) {
      super();
      this.onmessage = null;
      this.frame = document.createElement("iframe");
      this.frame.hidden = true;
      document.body.appendChild(this.frame);
      const inner = this.frame.contentDocument;
      inner.open();
      inner.write(
        "<!doctype html><body><script>" +
          "postMessage = data => parent.postMessage(data, '*');" +
          "importScripts = (...urls) => urls.reduce((before, url) => before.then(() => new Promise(done => {" +
          "  const script = document.createElement('script');" +
          "  script.src = url; script.onload = done; document.body.appendChild(script);" +
          "})), Promise.resolve());" +
          "</" + "script><script src='" + url + "'></" + "script>"
      );
      inner.close();
      window.addEventListener("message", event => {
        if (event.source !== this.frame.contentWindow) return;
        const message = new MessageEvent("message", { data: event.data });
        this.dispatchEvent(message);
        if (this.onmessage) this.onmessage(message);
      });
      this.ready = new Promise(done => (this.frame.onload = done));
    }

    postMessage(data) {
      this.ready.then(() => {
        const frame = this.frame.contentWindow;
        const message = new frame.MessageEvent("message", { data });
        frame.dispatchEvent(message);
        if (typeof frame.onmessage === "function") frame.onmessage(message);
      });
    }

    terminate() {
      this.frame.remove();
    }
  };
}
