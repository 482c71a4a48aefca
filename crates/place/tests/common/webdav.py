import socket
import sys
from cheroot import wsgi
from cheroot.ssl.builtin import BuiltinSSLAdapter
from wsgidav.wsgidav_app import WsgiDAVApp

folder, tls = sys.argv[1], sys.argv[2] == "tls"
app = WsgiDAVApp({
    "provider_mapping": {"/dav": folder + "/files"},
    "simple_dc": {"user_mapping": {"*": {"keeper": {"password": "two terns"}}}},
    "http_authenticator": {"accept_basic": True, "accept_digest": False, "default_to_digest": False},
    "verbose": 1,
    "logging": {"enable": False},
})
# A port by its number: only then it may be had again at once by a server that is started again.
if len(sys.argv) > 3:
    port = int(sys.argv[3])
else:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
server = wsgi.Server(("127.0.0.1", port), app, numthreads=8)
if tls:
    server.ssl_adapter = BuiltinSSLAdapter(folder + "/cert.pem", folder + "/key.pem")
server.prepare()
print(server.bind_addr[1], flush=True)
server.serve()
