# What works beside the stages of ways.rs: sockets, a FIFO, shared memory and queues of another process. It says what it has,
# and ends with its input.
import ctypes, json, os, socket, sys, threading

run, name = sys.argv[1], sys.argv[2]


def serve(listener, answer):
    def one():
        while True:
            try:
                connection = listener.accept()[0]
                answer(connection)
                connection.close()
            except OSError:
                pass

    threading.Thread(target=one, daemon=True).start()


def listen(address):
    listener = socket.socket(socket.AF_UNIX)
    listener.bind(address)
    listener.listen()
    return listener


content = os.open(run + "/content", os.O_RDWR | os.O_CREAT)
os.write(content, b"1")
serve(listen(run + "/unix"), lambda c: c.send(b"1"))
serve(listen("\0" + name), lambda c: c.send(b"1"))
serve(listen(run + "/hands"), lambda c: socket.send_fds(c, [b"x"], [content]))
gram = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
gram.bind(run + "/gram")
tcp = socket.socket()
tcp.bind(("127.0.0.1", 0))
tcp.setsockopt(socket.IPPROTO_TCP, 23, 5)
tcp.listen()
serve(tcp, lambda c: c.send(b"1"))
udp = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
udp.bind(("127.0.0.1", 0))


def echo():
    while True:
        data, sender = udp.recvfrom(9)
        udp.sendto(data, sender)


threading.Thread(target=echo, daemon=True).start()
os.mkfifo(run + "/fifo")


def fill():
    while True:
        try:
            with open(run + "/fifo", "w") as f:
                f.write("1")
        except OSError:
            pass


threading.Thread(target=fill, daemon=True).start()
with open("/dev/shm/" + name, "w") as f:
    f.write("1")
libc = ctypes.CDLL(None)
key = 0x6C000000 | os.getpid() & 0xFFFFFF
create = 0o1600
segments = libc.shmget(key, 9, create), libc.msgget(key, create), libc.semget(key, 1, create)
librt = ctypes.CDLL("librt.so.1")
queue = b"/" + name.encode()
librt.mq_open(queue, os.O_CREAT | os.O_EXCL | os.O_RDWR, 0o600, None)
buffer = ctypes.create_string_buffer(b"1")
free = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
free.bind(("0.0.0.0", 0))
port = free.getsockname()[1]
free.close()
said = {"RUN": run, "NAME": name, "TCP": tcp.getsockname()[1], "UDP": udp.getsockname()[1], "FREE": port, "KEY": key,
        "PID": os.getpid(), "ADDRESS": ctypes.addressof(buffer)}
print(json.dumps(said), flush=True)
sys.stdin.read()
libc.shmctl(segments[0], 0, None)
libc.msgctl(segments[1], 0, None)
libc.semctl(segments[2], 0, 0)
librt.mq_unlink(queue)
os.remove("/dev/shm/" + name)
