"""Flask with its own sessions, flash messages and static files, and Flask-WTF against forged forms."""

import threading
import time

from flask import Flask, Response, flash, get_flashed_messages, redirect, request, session
from flask_wtf.csrf import CSRFProtect, generate_csrf

app = Flask(__name__, static_folder="../public", static_url_path="/static")
app.config["SECRET_KEY"] = "made up"
csrf = CSRFProtect(app)
lock = threading.Lock()
streams = {"open": 0}


@app.get("/")
def home():
    return "<h1>Departures from Tholm</h1>"


@app.get("/greeting")
def greeting():
    return "Hei" if request.accept_languages.best_match(["nb", "en"], "en") == "nb" else "Hello"


@app.get("/login")
def login():
    session["user"] = request.args["as"]
    return redirect("/me", 303)


@app.get("/me")
def me():
    time.sleep(0.03)
    return f"Hello {session.get('user', 'nobody')}"


@app.get("/notes")
def notes():
    return f"token={generate_csrf()}\nflash={','.join(get_flashed_messages())}\n"


@app.post("/notes")
def note():
    flash(f"saved {request.form['text']}")
    return redirect("/notes", 303)


@app.get("/events")
def events():
    who = session.get("user", "nobody")

    def stream():
        with lock:
            streams["open"] += 1
        try:
            yield f"data: for {who}\n\n"
            while True:
                time.sleep(0.1)
                yield ": on\n\n"
        finally:
            with lock:
                streams["open"] -= 1

    return Response(stream(), mimetype="text/event-stream")


@app.get("/open")
def opened():
    return str(streams["open"]), {"Cache-Control": "no-store"}


@app.post("/upload")
@csrf.exempt
def upload():
    return f"received {len(request.files['file'].read())}"
