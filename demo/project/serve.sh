#!/bin/sh
# Draws the site and serves it on the workspace's port. The news are served as they are written.
set -eu
gauge run /code/sailings.csv
quill draw /code/sailings.csv -o /tmp/site
ln -sf /code/news.html /tmp/site/news.html
exec httpd -f -p "$SITE_PORT" -h /tmp/site
