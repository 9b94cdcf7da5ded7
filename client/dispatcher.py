"""Speech in a Python program, by a Dispatcher service. One file, the standard library alone.

    from dispatcher import Dispatcher

    service = Dispatcher("http://127.0.0.1:7420", token)
    speech = service.speak("The ramp is closing.", voice="quayside")
    while (samples := speech.read()) is not None:   # a game loop: never waits
        play(samples)

Calls run in threads of their own; what they give is read without waiting, and
ends where `cancel()` is called.
"""

import array
import base64
import http.client
import json
import queue
import sys
import threading
import urllib.error
import urllib.parse
import urllib.request

__all__ = ["Dispatcher", "DispatcherError", "Speech", "Task"]

#: Seconds until the service must have answered, and between pieces of its answer.
PATIENCE = 60
#: Bytes that are read at once.
PIECE = 4096
#: Pieces of audio that wait to be taken.
WAITING = 256


class DispatcherError(Exception):
    """Why a request was not served: the members of the problem document (RFC 9457)."""

    def __init__(self, problem, status=0):
        super().__init__(problem.get("detail") or problem.get("title") or "the service does not answer")
        self.problem = problem
        self.status = problem.get("status", status)


def _refusal(error):
    try:
        problem = json.loads(error.read())
    except (ValueError, OSError):
        problem = {"title": error.reason}
    return DispatcherError(problem, error.code)


def _samples(data):
    """16-bit samples, little-endian, as numbers."""
    values = array.array("h")
    values.frombytes(data)
    if sys.byteorder == "big":
        values.byteswap()
    return values


def _lost(error):
    detail = "The connection was lost before the end of the answer."
    return DispatcherError({"title": "The connection was lost.", "detail": f"{detail} {error}".strip()})


class Task:
    """A call in a thread of its own."""

    def __init__(self, work):
        self._cancelled = threading.Event()
        self._done = threading.Event()
        self._value = None
        self._error = None
        self._thread = threading.Thread(target=self._run, args=(work,), daemon=True)
        self._thread.start()

    def _run(self, work):
        try:
            self._value = work(self._cancelled)
        except (http.client.HTTPException, OSError) as error:
            self._error = _lost(error)
        except Exception as error:  # It is raised where the result is asked for.
            self._error = error
        finally:
            self._done.set()

    @property
    def done(self):
        """Whether it has ended."""
        return self._done.is_set()

    def cancel(self):
        """Ends it: the service is no longer listened to, and stops its engine."""
        self._cancelled.set()

    def result(self, timeout=None):
        """Waits for what it gives; raises why it failed."""
        if not self._done.wait(timeout):
            raise TimeoutError("the service has not answered yet")
        if self._error is not None:
            raise self._error
        return self._value


class Speech(Task):
    """Audio that comes in: 16-bit samples of one channel."""

    def __init__(self, sample_rate, work):
        self.sample_rate = sample_rate
        #: Id, engine, voice and cost, once the audio begins.
        self.facts = {}
        self._pieces = queue.Queue(WAITING)
        super().__init__(lambda cancelled: work(self, cancelled))

    def _put(self, data, cancelled):
        while not cancelled.is_set():
            try:
                return self._pieces.put(data, timeout=0.05)
            except queue.Full:
                continue

    def read(self):
        """The samples that have come, perhaps none; `None` after the last one, or once it is cancelled. Never waits.

        Raises why it failed, once all that came before was read.
        """
        if self._cancelled.is_set():
            return None
        data = bytearray()
        while True:
            try:
                data += self._pieces.get_nowait()
            except queue.Empty:
                break
        if data:
            return _samples(bytes(data))
        if not self.done:
            return _samples(b"")
        if not self._pieces.empty():
            return self.read()
        self.result()
        return None


class Dispatcher:
    """A Dispatcher service. `token` is a token or key, or a function that gives one."""

    def __init__(self, url, token):
        self._url = url.rstrip("/")
        self._token = token
        # The environment's proxies are for others: the service is on the team's own network.
        self._opener = urllib.request.build_opener(urllib.request.ProxyHandler({}))

    def _open(self, path, body=None, headers=None, query=None):
        token = self._token() if callable(self._token) else self._token
        address = f"{self._url}/api/v1/{path}"
        if query:
            address += "?" + urllib.parse.urlencode(query)
        request = urllib.request.Request(address, data=body, headers={"Authorization": f"Bearer {token}", **(headers or {})})
        try:
            return self._opener.open(request, timeout=PATIENCE)
        except urllib.error.HTTPError as error:
            raise _refusal(error) from None
        except urllib.error.URLError as error:
            raise DispatcherError({"title": "The service does not answer.", "detail": str(error.reason)}) from None

    def _ask(self, path, body, headers=None, query=None):
        with self._open(path, body, headers, query) as answer:
            return json.load(answer)

    def speak(self, text, *, sample_rate=24000, **members):
        """Speaks a text; other members of `POST /utterances` by name. Gives a `Speech` at once."""
        body = {"text": text, **members, "audio": {"type": "audio/pcm", "sample_rate": sample_rate}}

        def work(speech, cancelled):
            headers = {"Content-Type": "application/json", "Accept": "*/*"}
            with self._open("utterances", json.dumps(body).encode(), headers) as answer:
                facts = {name: answer.headers.get(f"Dispatch-{name}") for name in ("Id", "Engine", "Voice", "Cost")}
                speech.facts = {name.lower(): value for name, value in facts.items()}
                rest = b""
                while not cancelled.is_set():
                    # Whatever has come, up to a piece: nothing is held back.
                    data = answer.read1(PIECE)
                    if not data:
                        return speech.facts
                    data = rest + data
                    rest = data[len(data) // 2 * 2 :]
                    speech._put(data[: len(data) // 2 * 2], cancelled)
            return None

        return Speech(sample_rate, work)

    def transcribe(self, audio, media_type, **query):
        """Transcribes bytes of audio; the query of `POST /transcripts` by name. Gives a `Task`."""
        headers = {"Content-Type": media_type, "Accept": "application/json"}
        return Task(lambda cancelled: self._ask("transcripts", audio, headers, query))

    def exchange(self, *, text=None, audio=None, media_type=None, attachment=None, **members):
        """Says something to the reply hook of the app; `audio` and `attachment` are bytes.

        `attachment` is a pair of its bytes and media type. Gives a `Task`, whose result is the
        answer of `POST /exchanges`, with the bytes of the audio as `answer["audio"]["bytes"]`.
        """
        body = dict(members)
        if text is not None:
            body["text"] = text
        if audio is not None:
            body["audio"] = {"type": media_type, "base64": base64.b64encode(audio).decode()}
        if attachment is not None:
            body["attachment"] = {"type": attachment[1], "base64": base64.b64encode(attachment[0]).decode()}

        def work(cancelled):
            answer = self._ask("exchanges", json.dumps(body).encode(), {"Content-Type": "application/json"})
            if "base64" in answer["audio"]:
                answer["audio"]["bytes"] = base64.b64decode(answer["audio"]["base64"])
            return answer

        return Task(work)
