# Reads lines of port, host and path, asks for each over a connection of its own, and prints what came back: status, the
# place that answered, where it sends to, and what was passed on; "-" where there is none.
import socket, sys

def ask(port, host, target):
    s = socket.create_connection(("127.0.0.1", port), 5)
    s.settimeout(5)
    s.sendall(("GET %s HTTP/1.1\r\nHost: %s\r\nUser-Agent: driver\r\nAccept: */*\r\nConnection: close\r\n\r\n"
               % (target, host)).encode())
    data = b""
    while True:
        more = s.recv(65536)
        if not more: break
        data += more
    head = data.split(b"\r\n\r\n", 1)[0].decode("latin-1").split("\r\n")
    status = int(head[0].split(" ")[1]) if len(head[0].split(" ")) > 1 else 0
    fields = {}
    for line in head[1:]:
        name, _, value = line.partition(":")
        fields.setdefault(name.lower(), value.strip())
    return [str(status)] + [fields.get(name) or "-" for name in ("x-place", "location", "x-echo")]

for line in sys.stdin.read().split("\n"):
    if not line: continue
    port, host, target = line.split("\t")
    try: said = ask(int(port), host, target)
    except OSError: said = ["0", "-", "-", "-"]
    print("\t".join(said))
