"""A mail server (aiosmtpd): STARTTLS and a login, or neither; each letter goes into a file."""
import asyncio, os, ssl, sys
from aiosmtpd.smtp import AuthResult, LoginPassword, SMTP

folder, kind = sys.argv[1], sys.argv[2]


class Box:
    number = 0

    async def handle_DATA(self, server, session, envelope):
        Box.number += 1
        path = os.path.join(folder, "mail-%d" % Box.number)
        user = session.auth_data.login.decode() if session.auth_data else None
        head = "login: %s\ntls: %s\nto: %s\n" % (user, session.ssl is not None, envelope.rcpt_tos[0])
        with open(path + ".part", "wb") as out:
            out.write(head.encode() + envelope.content)
        os.rename(path + ".part", path)
        return "250 taken"


def login(server, session, envelope, mechanism, data):
    fine = isinstance(data, LoginPassword) and (data.login, data.password) == (b"hut", b"two terns")
    return AuthResult(success=fine, handled=False, auth_data=data if fine else None)


def protocol():
    if kind == "open":
        return SMTP(Box(), hostname="mail.ridge.example")
    context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    context.load_cert_chain(os.path.join(folder, "cert.pem"), os.path.join(folder, "key.pem"))
    return SMTP(Box(), hostname="mail.ridge.example", tls_context=context, require_starttls=True,
                auth_required=True, authenticator=login)


async def main():
    server = await asyncio.get_running_loop().create_server(protocol, "127.0.0.1", 0)
    print(server.sockets[0].getsockname()[1], flush=True)
    await server.serve_forever()


asyncio.run(main())
