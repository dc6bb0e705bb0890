import argparse

argparse.ArgumentParser(prog="${templateOption:tool}").parse_args()
