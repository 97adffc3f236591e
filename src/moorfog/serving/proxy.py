"""The door to other machines: Debian's nginx in front of the web server, configured here.

The web server gives every request a thread of its own, so that two hundred clients that send nothing but slowly would
keep everybody else waiting. nginx waits for them instead: the web server sees a request when all of it is there.
"""

from __future__ import annotations

from pathlib import Path

CONNECTIONS = 8192
"""How many clients may be connected at once; one that is slow costs some memory and nothing else."""
PATIENCE_S = 10
"""So long may a client take to send its headers, or between two pieces of what it sends."""

_CONFIG = """\
worker_processes 1;
worker_rlimit_nofile {files};
error_log {folder}/nginx.log warn;
pid {folder}/nginx.pid;
daemon off;
events {{
  worker_connections {connections};
  multi_accept on;
}}
http {{
  access_log off;
  server_tokens off;
  client_body_temp_path {folder}/body;
  proxy_temp_path {folder}/proxy;
  fastcgi_temp_path {folder}/fastcgi;
  uwsgi_temp_path {folder}/uwsgi;
  scgi_temp_path {folder}/scgi;
  client_header_timeout {patience}s;
  client_body_timeout {patience}s;
  send_timeout {patience}s;
  keepalive_timeout 60s;
  reset_timedout_connection on;
  large_client_header_buffers 4 8k;
  client_max_body_size 17m;
  upstream moorfog {{
    server 127.0.0.1:{inner};
    keepalive 32;
  }}
  server {{
    listen {listen};
{tls}    location / {{
      proxy_pass http://moorfog;
      proxy_http_version 1.1;
      proxy_set_header Connection "";
      proxy_set_header Host $http_host;
      proxy_set_header X-Forwarded-For $remote_addr;
      proxy_set_header X-Forwarded-Proto $scheme;
      proxy_set_header X-Moorfog-Door "{door}";
      proxy_read_timeout 120s;
    }}
  }}
}}
"""
_TLS = """\
    ssl_certificate {certificate};
    ssl_certificate_key {key};
    ssl_protocols TLSv1.2 TLSv1.3;
    ssl_session_cache shared:tls:2m;
"""


def nginx_config(
    folder: Path, host: str, port: int, inner: int, door: str, certificate: Path | None = None, key: Path | None = None
) -> str:
    """Return the configuration: listens at ``host``:``port``, with TLS where a certificate is given, and hands on to
    the web server at port ``inner`` of this machine. ``door``: the word by which that one knows who it is."""
    at = f"[{host}]:{port}" if ":" in host else f"{host}:{port}"
    tls = certificate is not None and key is not None
    return _CONFIG.format(
        folder=folder,
        files=CONNECTIONS * 2 + 64,
        connections=CONNECTIONS,
        patience=PATIENCE_S,
        inner=inner,
        listen=f"{at} ssl http2" if tls else at,
        door=door,
        tls=_TLS.format(certificate=certificate, key=key) if tls else "",
    )


def nginx_command(config: Path) -> list[str]:
    """Return the command of the proxy."""
    return ["nginx", "-p", str(config.parent), "-e", str(config.parent / "nginx.log"), "-c", str(config)]
