#!/bin/sh
echo bulletin
