"""What a request comes to: a status and a body. Without a socket, so that it can be tested alone."""


def answer(method, path, body, notes):
    if path == "/health":
        return 200, {"ok": True}
    if path != "/notes":
        return 404, {"error": "There is nothing here; try /notes."}
    if method == "GET":
        return 200, notes
    if method != "POST":
        return 405, {"error": "GET lists the notes, POST adds one."}
    text = body.get("text") if isinstance(body, dict) else None
    text = text.strip() if isinstance(text, str) else ""
    if not 1 <= len(text) <= 500:
        return 422, {"error": 'A note is { "text": … } of 1 to 500 letters.'}
    notes.insert(0, {"text": text})
    del notes[100:]
    return 201, notes[0]
