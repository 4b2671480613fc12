"""A stand-in for an object store, with what is needed of S3's protocol: uploads in parts, a list, a part of an object,
and taking away.
"""

import contextlib
import re
import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import parse_qs, unquote, urlsplit


@contextlib.contextmanager
def object_store():
    """An object store that keeps all in memory."""
    objects, parts = {}, {}

    class Objects(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def answer(self, status=200, body=b"", **headers):
            self.send_response(status)
            for name, value in headers.items():
                self.send_header(name.replace("_", "-"), value)
            if self.command != "HEAD":
                self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        @property
        def asked(self):
            split = urlsplit(self.path)
            return unquote(split.path).lstrip("/"), parse_qs(split.query, keep_blank_values=True)

        def body(self):
            if "chunked" not in self.headers.get("Transfer-Encoding", ""):
                data = self.rfile.read(int(self.headers.get("Content-Length", 0)))
            else:
                data = b""
                while size := int(self.rfile.readline().split(b";")[0], 16):
                    data += self.rfile.read(size)
                    self.rfile.readline()
                self.rfile.readline()
            if "aws-chunked" in self.headers.get("Content-Encoding", ""):
                whole = b""
                while data:
                    head, _, data = data.partition(b"\r\n")
                    size = int(head.split(b";")[0], 16)
                    if not size:
                        break
                    whole, data = whole + data[:size], data[size + 2 :]
                return whole
            return data

        def do_POST(self):
            name, query = self.asked
            body = self.body()
            if "uploads" in query:
                parts[name] = {}
                text = "<InitiateMultipartUploadResult><UploadId>u</UploadId></InitiateMultipartUploadResult>"
                return self.answer(body=text.encode())
            if "delete" in query:
                for key in re.findall(r"<Key>([^<]+)</Key>", body.decode()):
                    objects.pop(f"{name.rstrip('/')}/{key}", None)
                return self.answer(body=b"<DeleteResult></DeleteResult>")
            objects[name] = b"".join(data for _, data in sorted(parts.pop(name).items()))
            return self.answer(body=b"<CompleteMultipartUploadResult><ETag>e</ETag></CompleteMultipartUploadResult>")

        def do_PUT(self):
            name, query = self.asked
            data = self.body()
            if "partNumber" in query:
                parts[name][int(query["partNumber"][0])] = data
            else:
                objects[name] = data
            self.answer(ETag='"e"')

        def do_DELETE(self):
            name, query = self.asked
            (parts if "uploadId" in query else objects).pop(name, None)
            self.answer(204)

        def do_HEAD(self):
            name, _ = self.asked
            there = name in objects
            size = {"Content_Length": str(len(objects[name]))} if there else {}
            self.answer(200 if there else 404, Last_Modified="Wed, 04 Mar 2026 02:40:00 GMT", **size)

        def do_GET(self):
            name, query = self.asked
            if name in objects:
                first, last = re.match(r"bytes=(\d+)-(\d*)", self.headers.get("Range", "bytes=0-")).groups()
                part = objects[name][int(first) : int(last or len(objects[name])) + 1]
                return self.answer(206, part, Last_Modified="Wed, 04 Mar 2026 02:40:00 GMT")
            bucket, prefix = name.rstrip("/"), query.get("prefix", [""])[0]
            found, below = "", set()
            for full, data in sorted(objects.items()):
                key = full.removeprefix(f"{bucket}/")
                if key.startswith(prefix):
                    head, slash, _ = key[len(prefix) :].partition("/")
                    if slash and "delimiter" in query:
                        below.add(f"{prefix}{head}/")
                    else:
                        found += (
                            f"<Contents><Key>{key}</Key><Size>{len(data)}</Size>"
                            "<LastModified>2026-03-04T02:40:00.000Z</LastModified></Contents>"
                        )
            found += "".join(f"<CommonPrefixes><Prefix>{one}</Prefix></CommonPrefixes>" for one in sorted(below))
            count = found.count("<Key>") + len(below)
            text = f"<ListBucketResult><KeyCount>{count}</KeyCount><IsTruncated>false</IsTruncated>{found}"
            text += "</ListBucketResult>"
            return self.answer(body=text.encode(), Content_Type="application/xml")

        def log_message(self, *_):
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Objects)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    server.objects = objects
    server.uri = f"s3://shop/rows?endpoint_override=127.0.0.1:{server.server_address[1]}&scheme=http&region=none"
    yield server
    server.shutdown()
    server.server_close()
