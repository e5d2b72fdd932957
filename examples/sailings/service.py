"""Brings the tables up to date, then answers /next?from=HARBOUR&after=HH:MM with the next sailing."""

import json
import os
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import parse_qs, urlsplit

import psycopg2
from clock_words import spoken


def migrate():
    with psycopg2.connect("") as connection, connection.cursor() as cursor:
        with open(os.path.join(os.path.dirname(__file__), "sailings.sql"), encoding="utf-8") as text:
            cursor.execute(text.read())


def next_sailing(harbour, after):
    with psycopg2.connect("") as connection, connection.cursor() as cursor:
        cursor.execute(
            "select to_harbour, to_char(leaves, 'HH24:MI') from sailings"
            " where from_harbour = %s and leaves > %s order by leaves limit 1",
            (harbour, after),
        )
        row = cursor.fetchone()
    return {"to": row[0], "leaves": row[1], "spoken": spoken(row[1])} if row else None


class Service(BaseHTTPRequestHandler):
    def do_GET(self):
        asked = parse_qs(urlsplit(self.path).query)
        found = next_sailing(asked.get("from", [""])[0], asked.get("after", ["00:00"])[0])
        body = json.dumps(found).encode()
        self.send_response(200 if found else 404)
        self.send_header("Content-Type", "application/json")
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_):
        pass


if __name__ == "__main__":
    migrate()
    ThreadingHTTPServer(("127.0.0.1", int(os.environ["SITE_PORT"])), Service).serve_forever()
