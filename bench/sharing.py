"""Depots beside public general-purpose tools on the same server and disk. The server is that of the variables that
`scripts/servers` prints (S3_ENDPOINT, S3_BUCKET, AWS_…); without them only the lines over folders are measured."""
import os
import shutil
import subprocess
import uuid


def sh(command, cwd):
    subprocess.run(command, shell=True, cwd=cwd, check=True, stdout=subprocess.DEVNULL)


def project(folder, name, url, options=""):
    """A project with a dataset `d` and a depot."""
    root = os.path.join(folder, name)
    os.makedirs(root, exist_ok=True)
    with open(os.path.join(root, "textum.toml"), "w") as out:
        out.write('[project]\nname = "bench"\n[data.d]\npath = "d"\n[depot.team]\nurl = "%s"\n%s' % (url, options))
    return root


def depot(folder, textum, url, options=()):
    """Makes the depot at a url."""
    root = os.path.join(folder, "maker-%s" % uuid.uuid4().hex)
    os.makedirs(root)
    with open(os.path.join(root, "textum.toml"), "w") as out:
        out.write('[project]\nname = "maker"\n')
    subprocess.run([textum, "depot", "add", "team", url] + [w for o in options for w in ("--option", o)], cwd=root, check=True,
                   stdout=subprocess.DEVNULL)
    shutil.rmtree(root)


def small_files(root, count):
    for d in range(100):
        os.makedirs(os.path.join(root, "d", "%02d" % d))
        for i in range(count // 100):
            with open(os.path.join(root, "d", "%02d" % d, "%05d.bin" % i), "wb") as out:
                out.write(os.urandom(4096))


def large_file(root, size):
    with open(os.path.join(root, "d"), "wb") as out:
        for _ in range(size // (1 << 20)):
            out.write(os.urandom(1 << 20))


def folders(folder, textum, pair, scale):
    lines = []
    for name, make, what in (("small", lambda r: small_files(r, 100_000 // scale), "%s files of 4 KiB" % format(100_000 // scale, ",")),
                             ("large", lambda r: large_file(r, (2 << 30) // scale), "a file of %d MiB" % (2048 // scale))):
        url = os.path.join(folder, "depot-" + name)
        root = project(folder, "to-folder-" + name, url)
        make(root)
        sh("%s data record" % textum, root)
        fresh = "rm -rf %s .textum/depots; cd %s && rm -rf m && mkdir m && cd m && printf '[project]\\nname = \"m\"\\n' > textum.toml && %s depot add team %s" % (
            url, folder, textum, url)
        lines.append(pair("%s to a depot in a folder" % what, [textum, "sync", "-q"], "cp -r d ../copied; sync -f ../copied", root, "1.2", 3,
                          fresh, "rm -rf ../copied", "cp -r; sync"))
        sh("rm -rf ../copied %s" % url, root)
        shutil.rmtree(root)
    return lines


def server(folder, textum, pair, scale, large_scale=None):
    """`large_scale`: another for the large file, where copying many small ones one by one would take too long."""
    large_scale = large_scale or scale
    endpoint, bucket = os.environ.get("S3_ENDPOINT"), os.environ.get("S3_BUCKET")
    if not endpoint or not shutil.which("rclone"):
        print("without S3_ENDPOINT, S3_BUCKET and rclone the lines about S3 are left out", flush=True)
        return []
    with open(os.path.join(folder, "rclone.conf"), "w") as out:
        out.write("[s3]\ntype = s3\nprovider = Ceph\nenv_auth = true\nendpoint = %s\n" % endpoint)
    rclone = "env -u AWS_CA_BUNDLE rclone --config %s" % os.path.join(folder, "rclone.conf")
    options = 'options = { endpoint = "%s" }\n' % endpoint
    lines = []

    def begin(name):
        url = "s3://%s/%s-%s" % (bucket, name, uuid.uuid4().hex[:8])
        depot(folder, textum, url, ["endpoint=" + endpoint])
        return url, project(folder, "to-s3-" + name, url, options)

    def anew(root):
        """A line for the shell that gives a project another depot, with nothing in it."""
        return ("rm -rf .textum/depots; sed -i 's#^url = .*#url = \"s3://%s/new-'$(date +%%s%%N)'\"#' textum.toml; mkdir -p ../m && cd ../m && "
                "printf '[project]\\nname = \"m\"\\n' > textum.toml && %s depot add team $(sed -n 's/^url = \"\\(.*\\)\"/\\1/p' ../%s/textum.toml) "
                "--option endpoint=%s" % (bucket, textum, os.path.basename(root), endpoint))

    count = format(100_000 // scale, ",")
    url, root = begin("small")
    small_files(root, 100_000 // scale)
    sh("%s data record" % textum, root)
    there = "s3:%s/rclone-%s" % (bucket, uuid.uuid4().hex[:8])
    # Each time to another place: the first of two rounds warms nothing that counts, so that one is enough.
    lines.append(pair("%s files of 4 KiB to S3" % count, [textum, "sync", "-q"], "%s copy d %s/$(date +%%N)" % (rclone, there), root, "0.1", 1,
                      anew(root), None, "rclone copy"))
    sh("%s copy d %s/same" % (rclone, there), root)
    lines.append(pair("the same, nothing new", [textum, "sync", "-q"], "%s copy d %s/same" % (rclone, there), root, "0.1", 3, None, None, "rclone copy"))
    shutil.rmtree(root)
    url, root = begin("large")
    size = 2048 // large_scale
    large_file(root, size << 20)
    sh("%s data record" % textum, root)
    sh("%s copyto d %s/large" % (rclone, there), root)
    lines.append(pair("a file of %d MiB to S3" % size, [textum, "sync", "-q"], "%s copyto d %s/large-$(date +%%N)" % (rclone, there), root, "1.1", 3, anew(root), None, "rclone copy"))
    with open(os.path.join(root, "textum.toml")) as manifest:
        text = manifest.read()
    clone = os.path.join(folder, "from-s3")
    os.makedirs(clone)
    with open(os.path.join(clone, "textum.toml"), "w") as out:
        out.write(text)
    lines.append(pair("a file of %d MiB from S3, into the store" % size, [textum, "sync", "-q", "--down", "--content", "all"],
                      "%s copyto %s/large ../came" % (rclone, there), clone, "1.1", 3, "rm -rf .textum", "rm -f ../came", "rclone copy"))
    shutil.rmtree(root)
    shutil.rmtree(clone)
    return lines


def receipts(folder, textum, timed, count):
    """Seconds and MiB to take in the receipts of so many runs, in a clone that has nothing."""
    url = os.path.join(folder, "depot-runs")
    depot(folder, textum, url)
    root = project(folder, "runs", url)
    with open(os.path.join(root, "textum.toml"), "a") as out:
        out.write('[params]\nn = 0\n[stage.s]\nrun = "echo {n} > o"\nparams = ["n"]\nwrites = ["o"]\n[stage.t]\nrun = "cat o > p"\nreads = ["o"]\nwrites = ["p"]\n')
    with open(os.path.join(root, "d"), "w") as out:
        out.write("x")
    sh("%s run -q --vary n=1..%d; %s sync -q" % (textum, count, textum), root)
    clone = os.path.join(folder, "clone")
    os.makedirs(clone)
    shutil.copy(os.path.join(root, "textum.toml"), clone)
    seconds, memory = timed([textum, "sync", "-q", "--down"], clone)
    print("receipts of %d runs down to an empty clone: %.2f s, %.0f MiB (at most 5 s, 256 MiB)" % (count, seconds, memory), flush=True)
    shutil.rmtree(root)
    shutil.rmtree(clone)
    return seconds, memory


def lines(folder, textum, pair, timed, scale):
    found = folders(folder, textum, pair, scale) + server(folder, textum, pair, scale)
    seconds, memory = receipts(folder, textum, timed, 1000 // scale)
    found.append(("receipts of %d runs down to an empty clone" % (1000 // scale), seconds, "–", 5.0, seconds / 5.0, "1", memory))
    return found
