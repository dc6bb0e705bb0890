#!/bin/sh
set -eu
lantern >/opt/pennant
