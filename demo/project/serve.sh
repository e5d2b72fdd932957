#!/bin/sh
# Draws the site and serves it on the workspace's port.
set -eu
gauge run /code/sailings.csv
quill draw /code/sailings.csv -o /tmp/site
exec httpd -f -p "$SITE_PORT" -h /tmp/site
