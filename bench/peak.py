"""The memory of a program that a bench runs."""
import re
import threading


class Peak:
    """The largest memory of a process, looked at ten times a second. What the kernel reports of a child when it ends is no use: it
    counts what the bench itself had when it started the child."""

    def __init__(self, pid):
        self.largest, self.done = 0, threading.Event()
        self.thread = threading.Thread(target=self.watch, args=(pid,), daemon=True)
        self.thread.start()

    def watch(self, pid):
        while not self.done.wait(0.1):
            try:
                with open(f"/proc/{pid}/status") as status:
                    found = re.search(r"VmHWM:\s+(\d+)", status.read())
                self.largest = max(self.largest, int(found[1]) if found else 0)
            except OSError:
                return

    def mib(self):
        self.done.set()
        self.thread.join()
        return self.largest / 1024
