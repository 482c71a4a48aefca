import sys
from pyftpdlib.authorizers import DummyAuthorizer
from pyftpdlib.handlers import FTPHandler, TLS_FTPHandler
from pyftpdlib.servers import ThreadedFTPServer

folder, tls = sys.argv[1], sys.argv[2] == "tls"
authorizer = DummyAuthorizer()
authorizer.add_user("keeper", "two terns", folder + "/files", perm="elradfmwMT")
authorizer.add_user("reader", "two terns", folder + "/files", perm="elr")
handler = TLS_FTPHandler if tls else FTPHandler
handler.authorizer = authorizer
handler.max_login_attempts = 10
if tls:
    handler.certfile, handler.keyfile = folder + "/cert.pem", folder + "/key.pem"
    handler.tls_control_required = handler.tls_data_required = True
server = ThreadedFTPServer(("127.0.0.1", 0), handler)
print(server.address[1], flush=True)
server.serve_forever()
