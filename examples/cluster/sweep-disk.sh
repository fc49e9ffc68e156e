#!/bin/sh
# Sweeps one disk, or an image of it on shared storage, on all nodes of a Slurm cluster, and makes one catalog of it.
#
#   sweep-disk.sh /shared/images/lamp-room.img /shared/catalogs/lamp-room 16
#
# DISK must be at the same path on every node; FOLDER is on shared storage, and on another disk than DISK. PARTS is how
# many jobs there are. LANTERN names the command, SWEEP_OPTIONS gives `lantern sweep` further options. Prints the job that makes the catalog; a job that
# fails or is killed goes on where it was when this is run again.
set -eu
DISK=$1 FOLDER=$2 PARTS=$3
LANTERN=${LANTERN:-lantern}
HERE=$(cd "$(dirname "$0")" && pwd)
mkdir -p "$FOLDER"
SWEEP=$(sbatch --parsable --job-name=sweep --array="1-$PARTS" --output="$FOLDER/part-%a.log" \
  --export="ALL,LANTERN=$LANTERN,DISK=$DISK,FOLDER=$FOLDER,PARTS=$PARTS" "$HERE/part.sbatch")
sbatch --parsable --job-name=merge --dependency="afterok:$SWEEP" --output="$FOLDER/merge.log" \
  --export="ALL,LANTERN=$LANTERN,DISK=$DISK,FOLDER=$FOLDER,PARTS=$PARTS" "$HERE/merge.sbatch"
