#!/bin/sh
echo "high water at $1"
