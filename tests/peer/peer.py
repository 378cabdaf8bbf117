#!/usr/bin/env python3
"""An independent peer of the bootloader's protocol, written from docs/formats/fastboot.md alone.

server tcp|udp PARTS_JSON LOG   plays a phone: prints its port; LOG gets every message
client tcp|udp PORT WORDS...    plays a host: WORDS are commands, or =FILE to download one

LOG and the client's output have a line a message: `> getvar:product`, `< OKAYgnomon`,
`> data 4096 SHA256`.
"""
import hashlib
import json
import socket
import struct
import sys


class Tcp:
    """FB01 both ways, then messages behind their length (64 bits, big-endian)."""

    def __init__(self, sock):
        self.sock = sock
        self.left = 0
        sock.sendall(b"FB01")
        if self._exact(4)[:2] != b"FB":
            raise ConnectionError("no greeting")

    def _exact(self, count):
        out = b""
        while len(out) < count:
            piece = self.sock.recv(count - len(out))
            if not piece:
                raise ConnectionError("closed")
            out += piece
        return out

    def send(self, message):
        self.sock.sendall(struct.pack(">Q", len(message)) + message)

    def receive(self):
        (size,) = struct.unpack(">Q", self._exact(8))
        return self._exact(size)

    def send_data(self, data):
        for at in range(0, len(data), 100_000):
            self.send(data[at:at + 100_000])

    def receive_data(self, count):
        out = b""
        while len(out) < count:
            if self.left == 0:
                (self.left,) = struct.unpack(">Q", self._exact(8))
            piece = self._exact(min(self.left, count - len(out)))
            self.left -= len(piece)
            out += piece
        return out


class UdpServer:
    """Answers each packet once, by its sequence number; a repeat gets the stored answer."""

    def __init__(self, sock):
        self.sock = sock
        self.expected = 0xFFFE  # wraps soon
        self.last = b""
        self.most = 1024
        self.peer = None
        self.buffer = b""

    def _packet(self):
        while True:
            raw, peer = self.sock.recvfrom(65536)
            kind, flags, number = struct.unpack(">BBH", raw[:4])
            if kind == 1:
                self.sock.sendto(raw[:4] + struct.pack(">H", self.expected), peer)
                continue
            if number == (self.expected - 1) & 0xFFFF and self.last:
                self.sock.sendto(self.last, peer)
                continue
            if number != self.expected:
                continue
            if kind == 2:
                self.most = min(self.most, struct.unpack(">HH", raw[4:8])[1])
                self.peer = peer
                self._answer(2, number, struct.pack(">HH", 1, self.most))
                continue
            return flags, number, raw[4:]

    def _answer(self, kind, number, data, flags=0):
        self.last = struct.pack(">BBH", kind, flags, number) + data
        self.expected = (number + 1) & 0xFFFF
        self.sock.sendto(self.last, self.peer)

    def send(self, message):
        room = self.most - 4
        for at in range(0, max(len(message), 1), room):
            _, number, data = self._packet()
            if data:
                raise ConnectionError("out of turn")
            more = at + room < len(message)
            self._answer(3, number, message[at:at + room], 1 if more else 0)

    def receive(self):
        out = b""
        while True:
            flags, number, data = self._packet()
            self._answer(3, number, b"")
            out += data
            if not flags & 1 and out:
                return out

    def send_data(self, data):
        self.send(data)

    def receive_data(self, count):
        while len(self.buffer) < count:
            _, number, data = self._packet()
            self._answer(3, number, b"")
            self.buffer += data
        out, self.buffer = self.buffer[:count], self.buffer[count:]
        return out


class UdpClient:
    def __init__(self, port):
        self.sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.sock.connect(("127.0.0.1", port))
        self.sock.settimeout(0.5)
        self.number = 0
        (self.number,) = struct.unpack(">H", self._exchange(1, b"")[1])
        _, own = self._exchange(2, struct.pack(">HH", 1, 1400))
        self.most = min(1400, struct.unpack(">HH", own)[1])
        self.early = b""

    def _exchange(self, kind, data, flags=0):
        packet = struct.pack(">BBH", kind, flags, self.number) + data
        for _ in range(40):
            self.sock.send(packet)
            try:
                raw = self.sock.recv(65536)
            except TimeoutError:
                continue
            got, more, number = struct.unpack(">BBH", raw[:4])
            if got != kind or (kind != 1 and number != self.number):
                continue
            if kind != 1:
                self.number = (self.number + 1) & 0xFFFF
            return more, raw[4:]
        raise ConnectionError("silent")

    def send(self, message):
        room = self.most - 4
        for at in range(0, len(message), room):
            more = at + room < len(message)
            self.early += self._exchange(3, message[at:at + room], 1 if more else 0)[1]

    send_data = send

    def receive(self):
        out, self.early = self.early, b""
        while True:
            more, data = self._exchange(3, b"")
            out += data
            if out and not more & 1:
                return out

    def receive_data(self, count):
        out, self.early = self.early, b""
        while len(out) < count:
            out += self._exchange(3, b"")[1]
        self.early = out[count:]
        return out[:count]


def digest(data):
    return hashlib.sha256(data).hexdigest()


class Phone:
    """A phone of two slots: keeps what is flashed, by its digest."""

    def __init__(self, facts, log):
        self.variables = facts["variables"]
        self.held = {}
        self.staged = b""
        self.log = log

    def tell(self, line):
        with open(self.log, "a", encoding="utf-8") as out:
            out.write(line + "\n")

    def reply(self, wire, text):
        self.tell("< " + text)
        wire.send(text.encode())

    def talk(self, wire):
        while True:
            command = wire.receive().decode()
            self.tell("> " + command)
            if command.startswith("getvar:"):
                value = self.variables.get(command[7:])
                self.reply(wire, "FAILunknown" if value is None else "OKAY" + value)
            elif command.startswith("download:"):
                size = int(command[9:], 16)
                self.reply(wire, "DATA%08x" % size)
                self.staged = wire.receive_data(size)
                self.tell("> data %d %s" % (size, digest(self.staged)))
                self.reply(wire, "INFOgot it")
                self.reply(wire, "OKAY")
            elif command.startswith("flash:"):
                self.held[command[6:]] = digest(self.staged)
                self.reply(wire, "INFOwriting")
                self.reply(wire, "OKAY")
            elif command.startswith(("erase:", "set_active:", "reboot")):
                self.reply(wire, "OKAY")
                if command.startswith("reboot"):
                    return
            else:
                self.reply(wire, "FAILunknown command")


def server(kind, facts, log):
    phone = Phone(json.loads(facts), log)
    if kind == "tcp":
        listening = socket.create_server(("127.0.0.1", 0))
        print(listening.getsockname()[1], flush=True)
        while True:
            sock, _ = listening.accept()
            try:
                phone.talk(Tcp(sock))
            except ConnectionError:
                pass
            sock.close()
    sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sock.bind(("127.0.0.1", 0))
    print(sock.getsockname()[1], flush=True)
    wire = UdpServer(sock)
    while True:
        phone.talk(wire)


def client(kind, port, words):
    if kind == "tcp":
        wire = Tcp(socket.create_connection(("127.0.0.1", port)))
    else:
        wire = UdpClient(port)

    def listen():
        while True:
            reply = wire.receive().decode()
            print("< " + reply)
            if reply[:4] == "DATA":
                return int(reply[4:], 16)
            if reply[:4] in ("OKAY", "FAIL"):
                return None

    for word in words:
        if word.startswith("="):
            with open(word[1:], "rb") as source:
                data = source.read()
            wire.send(b"download:%08x" % len(data))
            print("> download:%08x" % len(data))
            if listen() is not None:
                wire.send_data(data)
                print("> data %d %s" % (len(data), digest(data)))
                listen()
            continue
        wire.send(word.encode())
        print("> " + word)
        size = listen()
        if size is not None:
            data = wire.receive_data(size)
            print("< data %d %s" % (size, digest(data)))
            listen()


if __name__ == "__main__":
    if sys.argv[1] == "server":
        server(sys.argv[2], sys.argv[3], sys.argv[4])
    else:
        client(sys.argv[2], int(sys.argv[3]), sys.argv[4:])
