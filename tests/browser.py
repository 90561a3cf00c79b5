"""A real browser without a screen: Debian's Chromium, spoken to over a pipe in the DevTools protocol."""

import base64
import itertools
import json
import os
import shutil
import subprocess
import tempfile
import time

_NAMES = ("chromium", "chromium-browser", "google-chrome")
_QUIET = (
    "--headless=new", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--disable-extensions", "--remote-debugging-pipe", "--hide-scrollbars",
)  # fmt: skip


class Browser:
    """One browser with one page. events: everything that it has said by itself, in its order."""

    def __init__(self):
        program = next((found for name in _NAMES if (found := shutil.which(name))), None)
        if program is None:
            raise AssertionError("no Chromium here: apt-get install chromium (make test does it as root)")
        self._profile = tempfile.mkdtemp(prefix="slabrow-browser-")
        to_read, self._write = os.pipe()
        self._read, to_write = os.pipe()

        def pipes():  # the browser reads its file 3 and writes its file 4
            read, write = os.dup(to_read), os.dup(to_write)
            os.dup2(read, 3)
            os.dup2(write, 4)

        sandbox = ("--no-sandbox",) if os.geteuid() == 0 else ()
        self._process = subprocess.Popen(
            [program, *_QUIET, *sandbox, f"--user-data-dir={self._profile}", "about:blank"],
            preexec_fn=pipes, close_fds=False, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        os.close(to_read)
        os.close(to_write)
        self._numbers, self._rest, self.events, self._session = itertools.count(1), b"", [], None
        target = self.ask("Target.createTarget", url="about:blank")["targetId"]
        self._session = self.ask("Target.attachToTarget", targetId=target, flatten=True)["sessionId"]
        for domain in ("Page", "Network", "Log", "Runtime"):
            self.ask(f"{domain}.enable")

    def close(self):
        self._process.terminate()
        self._process.wait(20)
        os.close(self._read)
        os.close(self._write)
        shutil.rmtree(self._profile, ignore_errors=True)

    def ask(self, method, **params):
        number = next(self._numbers)
        message = {"id": number, "method": method, "params": params}
        if self._session is not None:
            message["sessionId"] = self._session
        os.write(self._write, json.dumps(message).encode() + b"\0")
        while True:
            said = self._next()
            if said.get("id") == number:
                if "error" in said:
                    raise AssertionError(f"{method}: {said['error']}")
                return said["result"]
            self.events.append(said)

    def _next(self):
        end = time.monotonic() + 60
        while b"\0" not in self._rest:
            if time.monotonic() > end:
                raise AssertionError("the browser says nothing")
            part = os.read(self._read, 1 << 16)
            if not part:
                raise AssertionError("the browser has ended")
            self._rest += part
        line, self._rest = self._rest.split(b"\0", 1)
        return json.loads(line)

    def show(self, path, width, height, dark=False, media=""):
        """Opens a file in a window of that size."""
        features = [{"name": "prefers-color-scheme", "value": "dark" if dark else "light"}]
        self.ask(
            "Emulation.setDeviceMetricsOverride", width=width, height=height, deviceScaleFactor=1, mobile=width < 600
        )
        self.ask("Emulation.setEmulatedMedia", media=media, features=features)
        self.events.clear()
        self.ask("Page.navigate", url=path.resolve().as_uri())
        end = time.monotonic() + 30
        while self.value("document.readyState") != "complete":
            assert time.monotonic() < end
            time.sleep(0.02)

    def value(self, script):
        done = self.ask("Runtime.evaluate", expression=script, returnByValue=True)
        if "exceptionDetails" in done:
            raise AssertionError(done["exceptionDetails"])
        return done["result"].get("value")

    def picture(self, path):
        path.write_bytes(base64.b64decode(self.ask("Page.captureScreenshot", format="png")["data"]))

    def printed_pages(self):
        data = base64.b64decode(self.ask("Page.printToPDF", preferCSSPageSize=True, printBackground=True)["data"])
        return data.count(b"/Type /Page\n") + data.count(b"/Type /Page ") + data.count(b"/Type/Page/")

    def requests(self):
        """URLs that the page asked for, itself left out."""
        found = [e["params"]["request"]["url"] for e in self.events if e["method"] == "Network.requestWillBeSent"]
        return [url for url in found[1:] if not url.startswith("data:")]

    def complaints(self):
        return [
            e["params"]
            for e in self.events
            if e["method"] in ("Log.entryAdded", "Runtime.exceptionThrown", "Runtime.consoleAPICalled")
        ]


# Every text with less contrast against what lies behind it than WCAG 2.1, 1.4.3, wants: 4.5, of large text 3.
CONTRAST = """
(() => {
  const part = c => { c /= 255; return c <= .03928 ? c / 12.92 : ((c + .055) / 1.055) ** 2.4; };
  const light = rgb => .2126 * part(rgb[0]) + .7152 * part(rgb[1]) + .0722 * part(rgb[2]);
  const colour = text => (text.match(/[\\d.]+/g) || [0, 0, 0, 0]).map(Number);
  const behind = node => { for (; node; node = node.parentElement) {
    const c = colour(getComputedStyle(node).backgroundColor); if (c.length < 4 || c[3] > 0) return c; } return [255, 255, 255]; };
  const poor = [];
  const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
  while (walker.nextNode()) {
    const text = walker.currentNode.textContent.trim(), node = walker.currentNode.parentElement;
    if (!text || !node.getClientRects().length) continue;
    const style = getComputedStyle(node), svg = node.namespaceURI.endsWith('svg');
    const one = light(colour(svg ? style.fill : style.color)), other = light(behind(node));
    const ratio = (Math.max(one, other) + .05) / (Math.min(one, other) + .05);
    if (ratio < (parseFloat(style.fontSize) >= 24 ? 3 : 4.5)) poor.push([text.slice(0, 40), ratio]);
  }
  return poor;
})()
"""
