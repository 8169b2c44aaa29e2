"""What the files of a host say of it: packages, processes, sockets, packet filters, jobs, keys."""
