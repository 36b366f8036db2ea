#!/bin/sh
exec httpd -f -p "$2" -h /var/lib/levels
