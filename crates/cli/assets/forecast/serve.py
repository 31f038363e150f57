"""Answers rows by HTTP with the published model, and says with each answer which version made it.

python3 serve.py [PORT] serves: curl --data-binary @tomorrow.csv http://localhost:8080/
python3 serve.py --try FILE serves for one question: the first row of a file.
"""
import http.server
import json
import subprocess
import sys
import threading
import urllib.request

MODEL = "models/stop"


class Predictions(http.server.BaseHTTPRequestHandler):
    def do_POST(self):
        with open(MODEL + "/textum.card.json") as source:
            card = json.load(source)
        rows = self.rfile.read(int(self.headers["Content-Length"]))
        done = subprocess.run(card["predict"], shell=True, cwd=MODEL, input=rows, stdout=subprocess.PIPE)
        self.send_response(200 if done.returncode == 0 else 422)
        self.send_header("Content-Type", "text/csv")
        self.send_header("X-Model", card["reference"])
        self.end_headers()
        self.wfile.write(done.stdout)

    def log_message(self, *words):
        pass


def main(words):
    trying = words[:1] == ["--try"]
    port = 0 if trying else int(words[0]) if words else 8080
    server = http.server.ThreadingHTTPServer(("127.0.0.1", port), Predictions)
    if not trying:
        server.serve_forever()
    threading.Thread(target=server.serve_forever, daemon=True).start()
    with open(words[1], "rb") as source:
        question = source.readline() + source.readline()
    with urllib.request.urlopen("http://127.0.0.1:%d/" % server.server_port, question) as answer:
        print("X-Model:", answer.headers["X-Model"])
        print(answer.read().decode(), end="")
    server.shutdown()


main(sys.argv[1:])
