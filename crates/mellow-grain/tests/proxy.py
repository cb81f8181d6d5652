"""A proxy in front of the bench, and a client that comes through it.

proxy.py BENCH_PORT KEY PEM: speaks TLS at port 443 and plain HTTP at port 80 (at free ports where these cannot be had), passes bytes
on to the bench as they are, and asks through both as a browser does, which leaves these two ports out of Host and Origin. Prints one
line of JSON a question: what was asked, and the status of the answer. The certificate is self-signed, for bench.example."""

import json
import socket
import ssl
import sys
import threading

bench, key, pem = int(sys.argv[1]), sys.argv[2], sys.argv[3]


def pump(a, b):
    try:
        while data := a.recv(65536):
            b.sendall(data)
    except OSError:
        pass
    for s in (a, b):
        try:
            s.shutdown(socket.SHUT_RDWR)
        except OSError:
            pass


def listen(port, context):
    try:
        server = socket.create_server(("127.0.0.1", port))
    except OSError:
        server = socket.create_server(("127.0.0.1", 0))

    def serve():
        while True:
            inner, _ = server.accept()
            try:
                if context:
                    inner = context.wrap_socket(inner, server_side=True)
            except OSError:
                continue
            outer = socket.create_connection(("127.0.0.1", bench))
            for pair in ((inner, outer), (outer, inner)):
                threading.Thread(target=pump, args=pair, daemon=True).start()

    threading.Thread(target=serve, daemon=True).start()
    return server.getsockname()[1]


def ask(port, context, path, heads):
    s = socket.create_connection(("127.0.0.1", port), timeout=20)
    if context:
        s = context.wrap_socket(s, server_hostname="bench.example")
    lines = [f"GET {path} HTTP/1.1"] + [f"{name}: {value}" for name, value in heads.items()]
    s.sendall(("\r\n".join(lines) + "\r\n\r\n").encode())
    answer = b""
    while b"\r\n\r\n" not in answer:
        data = s.recv(65536)
        if not data:
            break
        answer += data
    s.close()
    head = answer.split(b"\r\n\r\n")[0].decode()
    return int(head.split(" ")[1]), head


server_side = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
server_side.load_cert_chain(pem)
client_side = ssl.create_default_context(cafile=pem)
for scheme, port, there, here in (("https", 443, server_side, client_side), ("http", 80, None, None)):
    at = listen(port, there)
    host = {"Host": "bench.example", "Connection": "close"}

    def tell(what, path, heads):
        status, head = ask(at, here, path, heads)
        print(json.dumps([scheme, what, status]), flush=True)
        return head

    tell("no key", "/api/shots", host)
    head = tell("key", f"/?key={key}", host | {"Sec-Fetch-Site": "none", "Sec-Fetch-Mode": "navigate"})
    cookie = head.split("set-cookie: ")[1].split(";")[0]
    own = host | {"Cookie": cookie, "Origin": f"{scheme}://bench.example", "Sec-Fetch-Site": "same-origin"}
    tell("page", "/", own)
    tell("api", "/api/shots", own)
    upgrade = {"Connection": "Upgrade", "Upgrade": "websocket", "Sec-WebSocket-Version": "13"}
    tell("events", "/api/events", own | upgrade | {"Sec-WebSocket-Key": "dGhlIHNhbXBsZSBub25jZQ=="})
    tell("other origin", "/api/shots", own | {"Origin": f"{scheme}://other.example", "Sec-Fetch-Site": "cross-site"})
    tell("other name", "/api/shots", own | {"Host": "other.example", "Origin": f"{scheme}://other.example"})
