"""Heights of the tide over gRPC: /tides.Heights/At takes a station and gives a
line for each hour, as they pass."""
from concurrent import futures

import tides

PORT = 8001


def at(station, _):
    name = station.decode()
    if name in tides.STATIONS:
        for hour, cm in tides.table(name):
            yield f"{hour:02d}:00 {cm:+d} cm".encode()


def serve():
    try:
        import grpc
    except ImportError:
        print("the heights are not served: this image has no grpcio", flush=True)
        return
    server = grpc.server(futures.ThreadPoolExecutor(max_workers=8))
    methods = {"At": grpc.unary_stream_rpc_method_handler(at)}
    server.add_generic_rpc_handlers((grpc.method_handlers_generic_handler("tides.Heights", methods),))
    server.add_insecure_port(f"0.0.0.0:{PORT}")
    server.start()
    server.wait_for_termination()
