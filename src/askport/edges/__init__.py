"""The world: packet sockets, adapters, the keeper, the job file and the asyncio driver."""
