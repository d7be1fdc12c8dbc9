package frame

import (
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"path"
	"strings"
	"unicode"

	"github.com/gin-gonic/gin"
)

// maxField bounds a field beside an uploaded file, in bytes.
const maxField = 2000

// ErrNoFile is returned for a form in which no file was chosen.
var ErrNoFile = errors.New("choose a file")

// Upload reads a form with a file to where the file begins, which is then read
// from it as it comes in. The form's other fields come before the file.
func Upload(c *gin.Context, file string) (fields map[string]string, content *multipart.Part, err error) {
	form, err := c.Request.MultipartReader()
	if err != nil {
		return nil, nil, fmt.Errorf("the form cannot be read: %w", err)
	}
	fields = map[string]string{}
	for len(fields) < 20 {
		part, err := form.NextPart()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, nil, fmt.Errorf("the form cannot be read: %w", err)
		}
		if part.FormName() == file {
			Sent(c, fields["form"], fields["override_reason"])
			return fields, part, nil
		}
		b, err := io.ReadAll(io.LimitReader(part, maxField))
		if err != nil {
			return nil, nil, fmt.Errorf("the form cannot be read: %w", err)
		}
		fields[part.FormName()] = strings.TrimSpace(strings.ToValidUTF8(string(b), "\ufffd"))
	}
	return fields, nil, ErrNoFile
}

// FileName makes the name of a file that somebody else has named fit to be kept
// as text: the last part of its path, without what cannot be read.
func FileName(name string) string {
	name = path.Base(strings.ReplaceAll(name, `\`, "/"))
	name = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return -1
		}
		return r
	}, strings.ToValidUTF8(name, "\ufffd"))
	if r := []rune(name); len(r) > 120 {
		name = string(r[:120])
	}
	if name == "" || name == "." || name == "/" {
		return "unnamed"
	}
	return name
}

// Attachment is the header by which a file of a name is saved (RFC 6266): the name as it
// is by RFC 8187, and one in ASCII for who does not know that.
func Attachment(name string) string {
	plain := strings.Map(func(r rune) rune {
		if r < 0x20 || r > 0x7e || strings.ContainsRune(`"\\/%;`, r) {
			return '_'
		}
		return r
	}, name)
	var ext strings.Builder
	for _, b := range []byte(strings.ToValidUTF8(name, "�")) {
		if b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || strings.IndexByte("!#$&+-.^_`|~", b) >= 0 {
			ext.WriteByte(b)
		} else {
			fmt.Fprintf(&ext, "%%%02X", b)
		}
	}
	return fmt.Sprintf(`attachment; filename="%s"; filename*=UTF-8''%s`, plain, ext.String())
}
