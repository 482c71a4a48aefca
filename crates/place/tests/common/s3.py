import logging
import urllib.request
from moto.server import ThreadedMotoServer

logging.getLogger("werkzeug").setLevel(logging.ERROR)
server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
server.start()
host, port = server.get_host_and_port()
request = urllib.request.Request(
    f"http://127.0.0.1:{port}/ridge", method="PUT",
    headers={"Authorization": "AWS4-HMAC-SHA256 Credential=hut/20260101/us-east-1/s3/aws4_request, SignedHeaders=host, Signature=0"})
urllib.request.urlopen(request)
print(port, flush=True)
server._thread.join()
