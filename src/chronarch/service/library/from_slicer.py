#!/usr/bin/env python3
"""Sends a sliced file to the shop's library. A slicer runs it after slicing, with the file's path as the last word:

    from_slicer.py [--folder FOLDER] [--queue [--copies N]] [--start-on MACHINE] [--name NAME] FILE

The key (scope operate, from `chronarch keys make`) is in CHRONARCH_KEY, or in the file ~/.chronarch-key. It needs
Python 3.9 and nothing else. What is refused is said, and ends it with 1, so that the slicer shows it.
"""

import argparse
import json
import os
import sys
import urllib.error
import urllib.parse
import urllib.request
from pathlib import Path

ADDRESS = "http://127.0.0.1:8420"
KEY_FILE = Path.home() / ".chronarch-key"
WITHIN_S = 300


def main() -> int:
    """Send it; the way the program ends."""
    words = argparse.ArgumentParser(description="Send a sliced file to the shop's library.")
    words.add_argument("--folder", default="", help="the library's folder it goes to")
    words.add_argument("--queue", action="store_true", help="queue it at once")
    words.add_argument("--copies", type=int, default=1, help="with --queue: how many")
    words.add_argument("--start-on", default="", metavar="MACHINE", help="start it now on a machine that is idle")
    words.add_argument("--name", default="", help="what it is called; its file's name without it")
    words.add_argument("--address", default=os.environ.get("CHRONARCH_ADDRESS", ADDRESS), help="of the service")
    words.add_argument("file", type=Path)
    asked = words.parse_args()
    key = os.environ.get("CHRONARCH_KEY") or (KEY_FILE.read_text().strip() if KEY_FILE.exists() else "")
    if not key:
        print(f"There is no key: set CHRONARCH_KEY, or write it to {KEY_FILE}.", file=sys.stderr)
        return 1
    wish = {"folder": asked.folder}
    if asked.queue or asked.start_on:
        wish.update(queue="true", copies=str(asked.copies))
    if asked.start_on:
        wish.update(machine=asked.start_on, now="true")
    name = urllib.parse.quote(asked.name or asked.file.name, safe="")
    url = f"{asked.address.rstrip('/')}/api/drop/{name}?{urllib.parse.urlencode(wish)}"
    headers = {"Authorization": f"Bearer {key}", "Content-Type": "text/x.gcode", "Prefer": "wait=120"}
    try:
        with asked.file.open("rb") as body:
            headers["Content-Length"] = str(asked.file.stat().st_size)
            request = urllib.request.Request(url, data=body, headers=headers, method="PUT")
            with urllib.request.urlopen(request, timeout=WITHIN_S) as answer:
                told = json.load(answer)
    except urllib.error.HTTPError as error:
        try:
            why = json.load(error).get("detail", "")
        except ValueError:
            why = ""
        print(why or f"The shop refused it: {error}.", file=sys.stderr)
        return 1
    except OSError as error:
        print(f"{asked.file} could not be sent to {asked.address}: {error}.", file=sys.stderr)
        return 1
    job = f", job {told['job']}" if told.get("job") else ""
    print(f"{(told.get('file') or {}).get('name') or told.get('name')} is in the library{job}.")
    return 0


if __name__ == "__main__":
    sys.exit(main())
