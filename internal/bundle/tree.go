package bundle

import (
	"encoding/binary"
	"encoding/hex"
	"io"
	"math/bits"

	"lukechampine.com/blake3/guts"
)

// A content is named by its BLAKE3 hash, which is the root of a tree over its bytes. A piece is
// a subtree of that tree, and its hash the chaining value of the subtree; so the hashes of all
// pieces give the hash of the content, and nobody can give a content pieces that are not its
// own. The tree is that of section 2.1 of the BLAKE3 paper; the library computes its nodes.

// hashSize is the size of a hash in bytes.
const hashSize = 32

// subtree returns the node over data that begins at a chunk of the content. Beside the last,
// data is a power of two of chunks.
func subtree(data []byte, chunk uint64) guts.Node {
	const atOnce = guts.MaxSIMD * guts.ChunkSize
	if len(data) <= atOnce {
		var buf [atOnce]byte
		return guts.CompressBuffer(&buf, copy(buf[:], data), &guts.IV, chunk, 0)
	}
	half := 1 << (bits.Len(uint(len(data)-1)) - 1)
	left, right := subtree(data[:half], chunk), subtree(data[half:], chunk+uint64(half)/guts.ChunkSize)
	return guts.ParentNode(guts.ChainingValue(left), guts.ChainingValue(right), &guts.IV, 0)
}

// spanning returns the node over the pieces of hashes.
func spanning(pieces [][8]uint32) guts.Node {
	half := 1 << (bits.Len(uint(len(pieces)-1)) - 1)
	left, right := pieces[0], pieces[len(pieces)-1]
	if half > 1 {
		left = guts.ChainingValue(spanning(pieces[:half]))
	}
	if len(pieces)-half > 1 {
		right = guts.ChainingValue(spanning(pieces[half:]))
	}
	return guts.ParentNode(left, right, &guts.IV, 0)
}

// root returns the hash of a content of which a node is all.
func root(n guts.Node) string {
	n.Flags |= guts.FlagRoot
	return written(guts.ChainingValue(n))
}

func written(words [8]uint32) string {
	var raw [hashSize]byte
	for i, w := range words {
		binary.LittleEndian.PutUint32(raw[4*i:], w)
	}
	return hex.EncodeToString(raw[:])
}

// read reads a hash; it was checked.
func read(hash string) (words [8]uint32) {
	raw, _ := hex.DecodeString(hash)
	for i := range words {
		words[i] = binary.LittleEndian.Uint32(raw[4*i:])
	}
	return words
}

// HashOf returns the BLAKE3 hash of data, in hexadecimal.
func HashOf(data []byte) string { return root(subtree(data, 0)) }

// pieceIs reports whether data are a piece of a content.
func (c Content) pieceIs(i int, data []byte) bool {
	offset, length := c.Range(i)
	if int64(len(data)) != length {
		return false
	}
	if len(c.Pieces) == 0 {
		return HashOf(data) == c.Hash
	}
	return written(guts.ChainingValue(subtree(data, uint64(offset)/guts.ChunkSize))) == c.Pieces[i]
}

// rootOf returns the hash that the pieces of a content give, which are several.
func rootOf(pieces []string) string {
	words := make([][8]uint32, len(pieces))
	for i, p := range pieces {
		words[i] = read(p)
	}
	return root(spanning(words))
}

// ReadContent reads all of a file from its beginning, and returns what it is by content.
func ReadContent(file io.ReadSeeker) (Content, error) {
	size, err := file.Seek(0, io.SeekEnd)
	if err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err != nil {
		return Content{}, err
	}
	c := Content{Size: size}
	piece := PieceSize(size)
	data := make([]byte, min(piece, size))
	if size <= piece {
		if _, err := io.ReadFull(file, data); err != nil {
			return Content{}, err
		}
		c.Hash = HashOf(data)
		return c, nil
	}
	c.Piece = piece
	for at := int64(0); at < size; at += piece {
		data = data[:min(piece, size-at)]
		if _, err := io.ReadFull(file, data); err != nil {
			return Content{}, err // it became shorter
		}
		c.Pieces = append(c.Pieces, written(guts.ChainingValue(subtree(data, uint64(at)/guts.ChunkSize))))
	}
	c.Hash = rootOf(c.Pieces)
	return c, nil
}
