package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"io"
	"time"
)

// pack puts files into one archive, below a folder of its name: a .zip for
// Windows, a .tar.gz for others. Nothing in it tells who made it, or when.
func pack(name string, t target, files []file, date time.Time) (file, error) {
	var b bytes.Buffer
	if t.system == "windows" {
		err := zipped(&b, name, files, date)
		return file{name + ".zip", b.Bytes(), 0o644}, err
	}
	packed, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	if err != nil {
		return file{}, err
	}
	w := tar.NewWriter(packed)
	for _, f := range files {
		err := w.WriteHeader(&tar.Header{
			Typeflag: tar.TypeReg, Name: name + "/" + f.path, Size: int64(len(f.data)),
			Mode: int64(f.mode), ModTime: date, Format: tar.FormatUSTAR,
		})
		if err != nil {
			return file{}, err
		}
		if _, err := w.Write(f.data); err != nil {
			return file{}, err
		}
	}
	if err := w.Close(); err != nil {
		return file{}, err
	}
	err = packed.Close()
	return file{name + ".tar.gz", b.Bytes(), 0o644}, err
}

func zipped(to io.Writer, name string, files []file, date time.Time) error {
	w := zip.NewWriter(to)
	for _, f := range files {
		h := &zip.FileHeader{Name: name + "/" + f.path, Method: zip.Deflate, Modified: date}
		h.SetMode(f.mode)
		one, err := w.CreateHeader(h)
		if err != nil {
			return err
		}
		if _, err := one.Write(f.data); err != nil {
			return err
		}
	}
	return w.Close()
}
